"""Bins of log position, in which clicks are counted for the CTR curve."""

#: bins are tenths of a unit of log position: 1.00-1.10, 1.10-1.22, ... to 100
BINS_PER_E = 10
#: the last bin is open
BINS = 47
