"""Bins of log position, in which clicks are counted for the CTR curve."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]

#: bins are tenths of a unit of log position: 1.00-1.10, 1.10-1.22, ... to 100
BINS_PER_E = 10
#: the last bin is open
BINS = 47


def made_to_fall(values: Floats, weight: Floats) -> Floats:
    """The non-increasing values closest to the given ones: isotonic regression (Barlow et al. 1972) by weighted least squares."""
    from scipy.optimize import isotonic_regression

    falling: Floats = isotonic_regression(values, weights=weight, increasing=False).x
    return falling
