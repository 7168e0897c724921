"""The dataframe engine behind one door: the only place that knows which one runs."""

from nibbet.engine.engine import Engine

__all__ = ["Engine"]
