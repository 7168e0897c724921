"""Tables of rows for questions in SQL."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from nibbet.core import over_time
from nibbet.core import reduce as reductions
from nibbet.core.join.reasons import DETAIL

if TYPE_CHECKING:
    import ibis


from nibbet.pipeline.context import Context
from nibbet.pipeline.inputs import Inputs
from nibbet.pipeline.sums import Sums


@dataclass(frozen=True, eq=False)
class Questions:
    """Expressions of the engine, made on demand."""

    context: Context
    inputs: Inputs
    sums: Sums

    def keep(self, name: str) -> None:
        """Writes a table of rows into the store."""
        self.context.table(f"sql-{name}", lambda: self.table(name))

    def table(self, name: str) -> ibis.Table:
        """The expression of a table of rows for questions in SQL: see `core.meanings`."""
        joined = self.inputs.joined
        if name in ("search", "landings"):
            rows = joined.search if name == "search" else joined.landings
            return reductions.with_detail(rows, self.inputs.engine_pages, DETAIL)
        if name in ("days", "weeks"):
            reduced = over_time.page_days(joined.search) if name == "days" else over_time.page_weeks(joined.search)
            return reductions.named(reduced, self.inputs.engine_pages)
        if name in ("devices", "countries", "surfaces"):
            one = {"devices": "device", "countries": "country", "surfaces": "surface"}[name]
            return reductions.named(
                reductions.splits(joined.search, self.sums.windows, one).rename({one: "value"}), self.inputs.engine_pages
            )
        if name == "sections":
            return over_time.section_days(joined.search, self.inputs.engine_pages)
        return joined.addressed(name, self.inputs.engine_pages)
