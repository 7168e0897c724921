"""The join: every row gets its page or is set aside with a reason, and the account balances."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date
from typing import Any

import ibis
import pandas as pd

from nibbet.core.join.reasons import DETAIL, INCOMPLETE, INCOMPLETE_MONTH, INCOMPLETE_PERIOD, NESTED, OTHER_SURFACE, PAGELESS

#: positions times impressions are rounded to multiples of 1 / FINEST, so that their sums are exact and independent of the order of rows
FINEST = 2.0**16


def with_pages(table: ibis.Table, keys: ibis.Table, *, by: str = "page") -> ibis.Table:
    """The rows with page_id (null where the row has no page of this site), aside set to the reason where it was empty, and free: whether
    it was empty.

    Args:
        keys: key (a value of column `by`), page_id, reason; one row per value.
    """
    joined = table.mutate(free=table.aside.isnull()).left_join(keys, table[by] == keys.key).drop("key")
    lost = joined[by].notnull() & joined.page_id.isnull()
    reason = ibis.cases((joined.aside.notnull(), joined.aside), (lost, joined.reason), else_=ibis.null("string"))
    return joined.mutate(aside=reason).drop("reason", by)


def settle_search(search: ibis.Table, as_of: date, page_days: ibis.Table | None, surfaces: Sequence[str] | None = None) -> ibis.Table:
    """Search rows with the remaining reasons: days after `as_of`, another surface, and query rows on days covered by page rows (detail).

    Also: placed (impressions with a known position), position_sum (position x placed), used: as aside is null, for rows with a page, and
    apart: rows that would count but for their surface, which are shown separately.

    Args:
        search: rows with grain (page, pair, query), date, coarse (months and periods), page_id, aside, and free: whether aside is null except for rows without a page.
        page_days: date, one row per day covered by page rows; null where there are none.
        surfaces: the surfaces that count, as named in rows; None where all do. Rows without a surface count.
    """
    other = ibis.literal(False) if surfaces is None else search.surface.notnull() & ~search.surface.isin([*surfaces, ""])
    search = search.mutate(
        free=search.free & ~other,
        apart=_used(search, as_of) & other,
        aside=ibis.cases((search.aside.isnull() & other, ibis.literal(OTHER_SURFACE) + search.surface), else_=search.aside),
    )
    late = search.aside.isnull() & (search.date > ibis.literal(as_of, "date"))
    placed = search.position.notnull()
    exact = (search.position * search.impressions.cast("float64") * FINEST).round().cast(
        "float64"
    ) / FINEST  # otherwise Spark divides decimals
    search = search.mutate(
        placed=ibis.cases((placed, search.impressions), else_=0).cast("int64"),
        position_sum=ibis.cases((placed, exact), else_=0.0).cast("float64"),
        used=_used(search, as_of),
    )
    reasons = [(late & search.undated, INCOMPLETE_PERIOD), (late & search.coarse, INCOMPLETE_MONTH), (late, INCOMPLETE)]
    table = search.mutate(aside=ibis.cases(*reasons, else_=search.aside))
    table = table.mutate(
        aside=ibis.cases(
            (table.aside.isnull() & (table.grain == "page") & table.page_id.isnull(), "no address"),
            (table.aside.isnull() & (table.grain == "pair") & table.page_id.isnull(), "no address"),
            else_=table.aside,
        )
    )
    if page_days is None:
        return table.mutate(detail=ibis.literal(False))
    days = page_days.mutate(covered=True).rename(day="date")
    marked = table.left_join(days, table.date == days.day).drop("day")
    covered = marked.covered.fill_null(False) & ~marked.undated
    return marked.mutate(detail=(marked.aside.isnull() | marked.apart) & (marked.grain != "page") & covered).drop("covered")


def settle_landings(landings: ibis.Table, as_of: date) -> ibis.Table:
    """Landing rows with the remaining reasons: no address, days after `as_of`."""
    return landings.mutate(
        used=_used(landings, as_of),
        aside=ibis.cases(
            (landings.aside.notnull(), landings.aside),
            (landings.page_id.isnull(), "no address"),
            (landings.date > ibis.literal(as_of, "date"), INCOMPLETE),
            else_=ibis.null("string"),
        ),
    )


def _used(rows: ibis.Table, as_of: date) -> Any:
    return rows.free & rows.page_id.notnull() & (rows.date <= ibis.literal(as_of, "date"))


def balance(table: ibis.Table, measures: list[str]) -> ibis.Table:
    """Rows and sums by file, reason and day: file, aside, detail, nested, pageless (totals of queries or of the site), date (null for kinds
    without days), rows, and one column per measure.
    """
    is_search = "detail" in table.columns
    detail = table.detail if is_search else ibis.literal(False)
    pageless = table.grain.isin(["query", "site"]) & table.aside.isnull() & ~table.detail if is_search else ibis.literal(False)
    nested = table.nested if "nested" in table.columns else ibis.literal(False)
    day = table.date if "date" in table.columns else ibis.null("date")
    sums = {name: table[name].sum().coalesce(0) for name in measures}
    return table.group_by(file=table.file, aside=table.aside, detail=detail, nested=nested, pageless=pageless, date=day).aggregate(
        rows=table.count(), **sums
    )


def served_days(fates: pd.DataFrame) -> pd.DataFrame:
    """Of the search rows of `balance`, those that make up the totals of pages, by day: date, clicks, impressions."""
    served = fates[fates["aside"].isna() & ~fates["detail"] & ~fates["pageless"]]
    return served.groupby("date", as_index=False)[["clicks", "impressions"]].sum()


def account_of_file(name: str, kind: str, fates: pd.DataFrame, measures: list[str], digits: dict[str, int]) -> dict[str, Any]:
    """One entry of the account: rows and measures read = used + set aside, each with its reason.

    Args:
        fates: the rows of `balance` for this file, summed over days.
        digits: decimal places per measure; counts have 0.
    """

    def number(value: Any, measure: str) -> int | float:
        return int(value) if digits.get(measure, 0) == 0 else round(float(value), digits[measure])

    aside = fates[fates["aside"].notna()].sort_values("aside")
    used = fates[fates["aside"].isna()]
    nested = used["nested"] & ~used["detail"] & ~used["pageless"]
    inner = {DETAIL: used[used["detail"]], NESTED: used[nested], PAGELESS: used[used["pageless"]]}
    gone = [
        {"reason": row["aside"], "rows": int(row["rows"]), "measures": {m: number(row[m], m) for m in measures}}
        for row in aside.to_dict("records")
    ]
    gone += [
        {"reason": reason, "rows": 0, "measures": {m: number(rows[m].sum(), m) for m in measures}}
        for reason, rows in inner.items()
        if len(rows)
    ]
    ledger = used[~used["detail"] & ~used["nested"] & ~used["pageless"]]
    return {
        "file": name,
        "kind": kind,
        "rows_read": int(fates["rows"].sum()),
        "rows_used": int(used["rows"].sum()),
        "set_aside": gone,
        "measures": {
            m: {
                "read": number(fates[m].sum(), m),
                "ledger": number(ledger[m].sum(), m),
                "set_aside": number(fates[m].sum() - ledger[m].sum(), m),
            }
            for m in measures
        },
    }
