"""The dataframe engine behind one door: the only place that knows which one runs."""

from nibbet.engine.engine import Engine
from nibbet.engine.store import Store, key_of, program

__all__ = ["Engine", "Store", "key_of", "program"]
