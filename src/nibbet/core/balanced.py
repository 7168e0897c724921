"""Expressions of the engine combined pair by pair: a chain of some sixty is nested too deep to compile."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from operator import or_
from typing import TYPE_CHECKING, TypeVar

if TYPE_CHECKING:
    import ibis

Expression = TypeVar("Expression")


def combined(combine: Callable[[Expression, Expression], Expression], parts: Sequence[Expression]) -> Expression:
    """All parts, at least one, combined in their order, as a balanced tree."""
    level = list(parts)
    while len(level) > 1:
        level = [combine(level[n], level[n + 1]) if n + 1 < len(level) else level[n] for n in range(0, len(level), 2)]
    return level[0]


def stacked(tables: Sequence[ibis.Table]) -> ibis.Table:
    """The rows of all tables, in their order."""
    return combined(lambda one, other: one.union(other), tables)


def any_of(conditions: Sequence[ibis.Value]) -> ibis.Value:
    """Whether one of the conditions holds."""
    return combined(or_, conditions)
