"""Errors of input, each with what, where, and the remedy."""

from __future__ import annotations


class NibbetError(Exception):
    """Base of every error that a user can correct; the command line prints it and exits with 2."""


class ConfigError(NibbetError):
    """nibbet.toml, or a setting given in Python, is invalid."""


class SourceError(NibbetError):
    """A file, frame or table cannot be read as what it should be."""


class MissingColumnError(NibbetError):
    """A table lacks a column that a step needs."""

    def __init__(self, message: str, table: str, missing: list[str]) -> None:
        super().__init__(message)
        self.table, self.missing = table, missing


class NotFoundError(NibbetError):
    """A requested page, query, file or column does not exist."""


def is_interrupt(fault: BaseException) -> bool:
    """Whether this is an engine's report of an interrupted query."""
    message = str(fault)
    return message.startswith("KeyboardInterrupt") or (
        type(fault).__name__ in ("RuntimeError", "InterruptException") and "interrupted" in message.lower()
    )
