"""Regression of counts with clustered rows: each page has random variation, and so has each of its rows."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]

#: prior standard deviation of a coefficient on the log scale; it keeps collinear columns apart
PRIOR = 1.0
#: limits of the variance of clusters on the log scale
LEAST_VARIANCE, MOST_VARIANCE = 0.0025, 1.0
#: down-weighting of large clusters while the variances are estimated
HELD_BACK = 0.1


@dataclass(frozen=True)
class Fit:
    """Coefficients and standard errors of the columns, on the log scale."""

    coefficients: Floats
    errors: Floats


def clustered_poisson(counts: Floats, expected: Floats, columns: Floats, cluster: Ints, *, rounds: int = 25) -> Fit:
    """The factors by which columns multiply counts relative to their expectation.

    Args:
        counts, expected (above 0): per row; columns: rows x columns, the first a one; cluster: number of the cluster of each row, from 0.
    Returns:
        The solution of the estimating equations of Liang & Zeger (1986, Biometrika 73:13) for counts of mean m and variance m + r m^2
        within a row, and covariance c m m' between rows of a cluster; r and c by moments, alternating with the coefficients. Errors are
        those of the model, or of the sandwich estimator where it is larger.
    """
    width = columns.shape[1]
    clusters = int(cluster.max(initial=-1)) + 1
    prior = np.append(0.0, np.full(width - 1, 1 / PRIOR**2))
    beta = np.zeros(width)
    beta[0] = np.log(max(counts.sum(), 0.5) / expected.sum())
    between, within = 0.1, 0.1
    for _ in range(rounds):
        mean = expected * np.exp(np.clip(columns @ beta, -8, 8))
        score, information, _ = _equations(counts, mean, columns, cluster, clusters, between, within)
        step = np.linalg.solve(information + np.diag(prior), score - prior * beta)
        beta = beta + np.clip(step, -1, 1)
        rest = counts - mean
        total, whole = np.bincount(cluster, rest, clusters), np.bincount(cluster, mean, clusters)
        square, mean_square = np.bincount(cluster, rest**2, clusters), np.bincount(cluster, mean**2, clusters)
        damping, of_row = 1 / (1 + HELD_BACK * whole) ** 2, 1 / (1 + HELD_BACK * mean) ** 2
        common = float((damping * (whole**2 - mean_square)).sum())
        single = (whole**2 - mean_square) <= 1e-9 * whole**2  # clusters of one row identify only the sum of both
        pairs = float((damping * (total**2 - square)).sum()) / common if common > 1e-9 and not single.all() else 0.0
        both = float((of_row * (rest**2 - mean)).sum() / max((of_row * mean**2).sum(), 1e-9))
        between = float(np.clip(pairs if common > 1e-9 else both, LEAST_VARIANCE, MOST_VARIANCE))
        within = float(np.clip(both - between, 0.0, MOST_VARIANCE))
        if np.abs(step).max() < 1e-6:
            break
    mean = expected * np.exp(np.clip(columns @ beta, -8, 8))
    _, information, parts = _equations(counts, mean, columns, cluster, clusters, between, within)
    inverse = np.linalg.inv(information + np.diag(prior))
    spare = clusters / max(clusters - width, 1)
    model = np.sqrt(np.diag(inverse) * spare)
    robust = np.sqrt(np.maximum(np.diag(inverse @ (parts.T @ parts) @ inverse), 0.0) * spare)
    return Fit(beta, np.maximum(model, robust))


def _equations(
    counts: Floats, mean: Floats, columns: Floats, cluster: Ints, clusters: int, between: float, within: float
) -> tuple[Floats, Floats, Floats]:
    """The score, the information, and the score of each cluster."""
    hold = 1 / (1 + within * mean)
    weight, rest = mean * hold, (counts - mean) * hold
    total, off = np.bincount(cluster, weight, clusters), np.bincount(cluster, rest, clusters)
    share = between / (1 + between * total)
    by_cluster = np.column_stack([np.bincount(cluster, columns[:, n] * weight, clusters) for n in range(columns.shape[1])])
    raw = np.column_stack([np.bincount(cluster, columns[:, n] * rest, clusters) for n in range(columns.shape[1])])
    parts = raw - (share * off)[:, None] * by_cluster
    information = (columns * weight[:, None]).T @ columns - (by_cluster * share[:, None]).T @ by_cluster
    return parts.sum(axis=0), information, parts
