"""The command line: its commands in the order of the work."""

from __future__ import annotations

from typing import Any

import typer
import typer.core

#: the commands in the order of the work
WORK = {
    "Begin": ["demo", "crawl", "init", "load", "run"],
    "Decide": ["decide", "topics", "report"],
    "Look closer": [
        "page",
        "query",
        "split",
        "markets",
        "engagement",
        "popular",
        "compare",
        "rising",
        "calendar",
        "new",
        "hosts",
        "titles",
        "links",
        "absent",
        "speed",
        "sql",
    ],
}


class _InOrder(typer.core.TyperGroup):
    """Lists the commands by purpose."""

    def format_commands(self, ctx: Any, formatter: Any) -> None:
        for title, names in WORK.items():
            with formatter.section(title):
                formatter.write_dl([(name, self.commands[name].get_short_help_str(100)) for name in names])


app = typer.Typer(
    cls=_InOrder,
    no_args_is_help=True,
    pretty_exceptions_enable=False,
    rich_markup_mode=None,
    context_settings={"help_option_names": ["-h", "--help"]},
    help="Joins search, analytics and crawl data by page, and decides page by page what to do.",
)
