"""What can go wrong with an input, said once: what, where, and the mend."""

from __future__ import annotations


class NibbetError(Exception):
    """Base of every error that a user can mend; the command line prints it and exits with 2."""


class ConfigError(NibbetError):
    """nibbet.toml, or a setting given in Python, is not usable."""


class SourceError(NibbetError):
    """A file, frame or table cannot be read as what it should be."""


class MissingColumnError(NibbetError):
    """A table lacks a column that a step needs."""

    def __init__(self, message: str, table: str, missing: list[str]) -> None:
        super().__init__(message)
        self.table, self.missing = table, missing


class NotFoundError(NibbetError):
    """A page, query, file or column that was asked for is not there."""


def is_interrupt(fault: BaseException) -> bool:
    """Whether an engine tells by this that its query was interrupted."""
    message = str(fault)
    return message.startswith("KeyboardInterrupt") or (
        type(fault).__name__ in ("RuntimeError", "InterruptException") and "interrupted" in message.lower()
    )
