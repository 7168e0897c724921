"""Resolves sources that cover the same days: which rows count, which are set aside, and what was preferred."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import date
from typing import TYPE_CHECKING, Any

import ibis
import numpy as np
import pandas as pd

from nibbet.core.balanced import any_of, stacked
from nibbet.core.join.grain import SAME_SHARE, Layer, choose_days, copies_aside, covered_days, reached_days, repeated, step_of, stretches
from nibbet.core.join.spans import Cover, disjoint
from nibbet.kinds import DIMENSIONS
from nibbet.sources.clean import Clean
from nibbet.sources.profile import WEB

if TYPE_CHECKING:
    from nibbet.engine import AnyEngine

#: columns that identify a row, and the measures by which equal rows are recognised
KEYS = {kind: ["date", "page", *names] for kind, names in DIMENSIONS.items()}
COMPARED = {"search": ("clicks", "impressions"), "landings": ("engaged_sessions", "sessions")}
#: rows whose keys are compared at once
ROWS_AT_ONCE = 12_000_000
#: preferred splits of a layer: channels are needed, and devices matter to the CTR curve of queries
PREFER: dict[str, tuple[str, ...]] = {"page": (), "pair": ("device",), "query": (), "site": (), "landings": ("channel",)}


@dataclass(frozen=True)
class Settled:
    """The rows of a kind, with those set aside that repeat the traffic of others.

    table: all rows, with coarse (a month or a period, not days) and nested (counted in the ledger through the rows of a longer period);
    page_days: the days covered by dated page rows (one column, date); notes: what was preferred; covers: the days that rows serve;
    step_of_file: day, week, month or undated, by number; covered_periods: the undated files whose days dated rows cover, with their
    first and last day; query_days: first and last days of the stretches on which dated rows name queries of pages.
    """

    table: ibis.Table
    page_days: pd.DataFrame
    notes: list[dict[str, str]]
    covers: list[Cover]
    step_of_file: dict[int, str]
    covered_periods: dict[int, tuple[date, date]]
    query_days: list[tuple[date, date]]


def settle_overlaps(engine: AnyEngine, table: ibis.Table, cleans: list[Clean], kind: str) -> Settled:
    """The rows of a kind, with those set aside that repeat the traffic of others; see `Settled`.

    Args:
        table: all rows of the kind, with file, grain, date, start, undated, aside.
    """
    used = table.filter(table.aside.isnull())
    days = engine.fetch(used.select("file", "date").distinct().filter(ibis._.date.notnull()))
    days = days.assign(date=pd.to_datetime(days["date"]))
    lone = _lone_surfaces(engine, used, cleans) if kind == "search" else {}
    layers, of_file = _layers(cleans, days, kind, lone)
    apart = {of_file[file]: surface for file, surface in lone.items()}
    days["layer"] = days["file"].map(of_file)
    if len(layers) > 1:
        numbers = engine.frame(pd.DataFrame({"file_of_layer": list(of_file), "layer": list(of_file.values())}).astype("int32"))
        table = table.left_join(numbers, table.file == numbers.file_of_layer).drop("file_of_layer")
    else:
        table = table.mutate(layer=ibis.literal(next(iter(layers), 0), "int32"))
    notes: list[dict[str, str]] = []
    table, copied = _without_copies(engine, table, days, kind)
    notes += copied
    per_layer = days[["layer", "date"]].drop_duplicates()
    chosen = _chosen(per_layer, layers, kind, apart)
    replaced = chosen[chosen["instead"].notna()]
    if len(replaced):
        marks = engine.frame(replaced.astype({"layer": "int32", "instead": "str"}))
        marks = marks.mutate(date=marks.date.cast("date")).rename(layer_covered="layer", date_covered="date")
        joined = table.left_join(marks, [table.layer == marks.layer_covered, table.date == marks.date_covered])
        covered = joined.aside.isnull() & joined.instead.notnull()
        reason = ibis.cases((covered, ibis.literal("same days in ") + joined.instead), else_=joined.aside)
        table = joined.mutate(aside=reason).drop("layer_covered", "date_covered", "instead")
        for name, better in sorted(
            {(layers[number].name, instead) for number, instead in zip(replaced["layer"], replaced["instead"], strict=True)}
        ):
            notes.append(
                {
                    "code": "overlap",
                    "text": f"{name} covers days that {better} covers too: {better} is used, and the other rows are set aside.",
                }
            )
    kept = chosen[chosen["instead"].isna()]
    aside = set() if apart.keys() >= layers.keys() else set(apart)  # where there is web search, other surfaces do not cover its days
    dated = kept[kept["layer"].map(lambda n: layers[n].step != "undated" and n not in aside).astype(bool)]
    days_of_grain = {
        grain: set(covered_days(rows, layers)["date"].dt.date)
        for grain, rows in dated.groupby(dated["layer"].map(lambda n: layers[n].grain))
    }
    periods = [layers[number] for number in sorted(kept["layer"].unique()) if layers[number].step == "undated"]
    covered = {layer.number for layer in periods if _share_held(layer, days_of_grain.get(layer.grain, set())) >= HELD_SHARE}
    serving = [layer for layer in periods if layer.number not in covered]
    nested, nested_notes = _nested(serving, days_of_grain)
    table = _at_their_end(table, layers)
    coarse = [layer.number for layer in layers.values() if layer.step in ("month", "undated")]
    table = table.mutate(
        coarse=table.layer.isin(coarse) if coarse else ibis.literal(False),
        nested=any_of([ibis.literal(False), *(one(table) for one in nested)]),
    )
    return Settled(
        table.drop("layer"),
        covered_days(dated[dated["layer"].map(lambda n: layers[n].grain == "page").astype(bool)], layers),
        notes + nested_notes,
        _covers(kind, dated, serving, layers),
        {file: layers[number].step for file, number in of_file.items()},
        {file: layers[n].period for file, n in of_file.items() if n in covered and layers[n].period},  # type: ignore[misc]
        stretches(days_of_grain.get("pair", set()), days_of_grain.get("page", set())),
    )


#: share of the days of a period from which dated rows of its grain replace it
HELD_SHARE = 0.9


def _share_held(layer: Layer, days: set[date]) -> float:
    assert layer.period is not None, "asked of periods"
    span = pd.date_range(*layer.period).date
    return sum(day in days for day in span) / len(span)


def _covers(kind: str, dated: pd.DataFrame, periods: list[Layer], layers: dict[int, Layer]) -> list[Cover]:
    """The days covered by the rows of a kind: one cover for each dated layer and each period."""
    result = [
        Cover(kind, layer.grain, "undated", *layer.period, (layer.period[1] - layer.period[0]).days + 1)
        for layer in periods
        if layer.period
    ]
    for number, rows in dated.groupby("layer"):
        layer, days = layers[int(str(number))], covered_days(rows, layers)["date"]
        result.append(Cover(kind, layer.grain, layer.step, days.iloc[0].date(), days.iloc[-1].date(), reached_days(days)))
    return sorted(set(result), key=lambda c: (c.grain, c.step, c.start, c.end))


def _nested(periods: list[Layer], days_of_grain: dict[str, set[date]]) -> tuple[list[Callable[[ibis.Table], Any]], list[dict[str, str]]]:
    """Which rows the ledger counts through those of a longer period, as conditions; and a note for each file inside another.

    Windows use the period that serves them, nested or not; only sums over all days would count a day twice.
    """

    def undated(layer: Layer) -> Callable[[ibis.Table], Any]:
        a, b = layer.period or (date.min, date.min)
        return lambda t: t.undated & (t.grain == layer.grain) & (t.start == ibis.literal(a, "date")) & (t.date == ibis.literal(b, "date"))

    def dated(grain: str, layer: Layer) -> Callable[[ibis.Table], Any]:
        a, b = layer.period or (date.min, date.min)
        return lambda t: ~t.undated & (t.grain == grain) & t.date.between(ibis.literal(a, "date"), ibis.literal(b, "date"))

    inner: list[Callable[[ibis.Table], Any]] = []
    notes = []
    main: dict[str, list[Layer]] = {}
    for grain in sorted({layer.grain for layer in periods}):
        of_grain = [layer for layer in periods if layer.grain == grain and layer.period]
        kept = set(disjoint(layer.period for layer in of_grain if layer.period))
        main[grain] = [layer for layer in of_grain if layer.period in kept]
        for layer in (layer for layer in of_grain if layer.period not in kept):
            inner.append(undated(layer))
            notes.append(
                {
                    "code": "nested",
                    "text": f"{layer.name} covers days of a longer or earlier period: it serves its own window, and is not added.",
                }
            )
        inner += [dated(grain, layer) for layer in main[grain] if _share_held(layer, days_of_grain.get(grain, set())) > 0]
    of_pages = days_of_grain.get("page", set()) | {day for layer in main.get("page", []) for day in pd.date_range(*layer.period).date}  # type: ignore[misc]
    for layer in main.get("pair", []):
        share = _share_held(layer, of_pages)
        if share >= HELD_SHARE:
            inner.append(undated(layer))  # totals of pages replace it
        elif share > 0:
            inner.append(dated("page", layer))
            inner += [undated(page) for page in main.get("page", []) if page.period and layer.period and _inside(page.period, layer.period)]
    inner += [dated("pair", layer) for layer in main.get("page", []) if _share_held(layer, days_of_grain.get("pair", set())) > 0]
    return inner, notes


def _inside(a: tuple[date, date], b: tuple[date, date]) -> bool:
    return a[0] >= b[0] and a[1] <= b[1]


def _at_their_end(table: ibis.Table, layers: dict[int, Layer]) -> ibis.Table:
    """Rows of weeks and months dated by their last day, so that a window contains those that end in it."""
    for step, length in (("week", ibis.interval(days=6)), ("month", None)):
        numbers = [layer.number for layer in layers.values() if layer.step == step]
        if numbers:
            end = table.date + length if length is not None else table.date + ibis.interval(months=1) - ibis.interval(days=1)
            table = table.mutate(date=ibis.cases((table.layer.isin(numbers), end.cast("date")), else_=table.date))
    return table


def _lone_surfaces(engine: AnyEngine, used: ibis.Table, cleans: list[Clean]) -> dict[int, str]:
    """The files with rows of a single surface other than web search, with its name: no other file contains their traffic."""
    files = [number for one in cleans if "surface" in one.reading.matches for number in one.numbers]
    if not files:
        return {}
    rows = used.filter(used.file.isin(files))
    ends = engine.fetch(
        rows.group_by("file").aggregate(first=rows.surface.min(), last=rows.surface.max(), bare=rows.surface.isnull().any())
    )
    alone = ends[
        ends["first"].eq(ends["last"]) & ~ends["bare"].astype(bool) & ~ends["first"].astype("str").str.strip().str.casefold().isin(WEB)
    ]
    return {int(file): str(name) for file, name in zip(alone["file"], alone["first"], strict=True)}


def _layers(cleans: list[Clean], days: pd.DataFrame, kind: str, lone: dict[int, str]) -> tuple[dict[int, Layer], dict[int, int]]:
    """The layers, and the layer of each file: files of one grain, split, period, step of dates, and surface where they have a single one."""
    layers: dict[int, Layer] = {}
    of_file: dict[int, int] = {}
    shapes: dict[object, int] = {}
    dates = days.groupby("file")["date"]
    for one in cleans:
        split = tuple(name for name in DIMENSIONS[kind] if name in one.reading.matches)
        small = [number for number in one.numbers if number in dates.groups and len(dates.get_group(number)) < 3]
        pooled = step_of(days.loc[days["file"].isin(small), "date"]) if small else "day"  # one file a day, or a month
        for number, (name, _) in zip(one.numbers, one.files, strict=True):
            known = dates.get_group(number) if number in dates.groups else days["date"].head(0)
            step = "undated" if one.undated else pooled if number in small else step_of(known)
            layer = shapes.setdefault((one.grain, split, one.period if one.undated else None, step, lone.get(number)), len(shapes))
            layers.setdefault(layer, Layer(layer, one.grain, step, split, name, one.period if one.undated else None))
            of_file[number] = layer
    return layers, of_file


def _chosen(days: pd.DataFrame, layers: dict[int, Layer], kind: str, apart: dict[int, str]) -> pd.DataFrame:
    """layer, date, instead: see choose_days; undated layers are resolved later, page by page. apart: the surface of layers with a single
    one.
    """
    undated = days["layer"].map(lambda number: layers[number].step == "undated").astype(bool)
    dated = days[~undated]
    grain = dated["layer"].map({number: layer.grain for number, layer in layers.items()})
    surface = dated["layer"].map(lambda number: apart.get(number, "")).astype("str")
    parts = [
        choose_days(rows, layers, prefer=PREFER["landings" if kind == "landings" else str(name)])
        for (name, _), rows in dated.groupby([grain, surface])
    ]
    return pd.concat([*parts, _chosen_periods(days[undated], layers, kind, apart)], ignore_index=True)


def _chosen_periods(days: pd.DataFrame, layers: dict[int, Layer], kind: str, apart: dict[int, str]) -> pd.DataFrame:
    """Of several tables of one grain and period with different splits, the one that counts: the best split, then the smallest."""
    result = days.assign(instead=None)
    same: dict[tuple[str, object, str], list[Layer]] = {}
    for number in sorted(days["layer"].unique()):
        same.setdefault((layers[number].grain, layers[number].period, apart.get(number, "")), []).append(layers[number])
    for (grain, *_), alike in ((key, group) for key, group in same.items() if len(group) > 1):
        prefer = PREFER["landings" if kind == "landings" else str(grain)]
        best = min(alike, key=lambda x: (*[p not in x.dimensions for p in prefer], len(x.dimensions), x.number))
        others = [layer.number for layer in alike if layer is not best]
        result.loc[result["layer"].isin(others), "instead"] = best.name
    return result


def _without_copies(engine: AnyEngine, table: ibis.Table, days: pd.DataFrame, kind: str) -> tuple[ibis.Table, list[dict[str, str]]]:
    """Rows of one layer in several files: set aside where most agree (an export taken twice), else added, with a note."""
    notes: list[dict[str, str]] = []
    shared = days[days.duplicated(["layer", "date"], keep=False)]
    for number in sorted(shared["layer"].unique().tolist()):
        mine = shared[shared["layer"] == number]
        days_of = sorted(mine["date"].dt.date.unique())
        between = (days_of[0], days_of[-1])
        rows = table.filter(table.aside.isnull() & (table.layer == number) & table.date.between(*map(_day, between)))
        if kind == "landings":  # tables of conversions have no sessions
            rows = rows.mutate(sessions=rows.sessions.fill_null(rows.conversions.cast("int64")))
        result = engine.keep(repeated(_suspects(engine, rows, KEYS[kind], days_of), KEYS[kind], COMPARED[kind]))
        count = engine.fetch(result.aggregate(n=result.count(), same=result.same.cast("int64").sum().coalesce(0))).iloc[0]
        if not count["n"]:
            continue
        if count["same"] >= SAME_SHARE * count["n"]:
            table = engine.keep(copies_aside(table, result, KEYS[kind]))
            notes.append(
                {
                    "code": "given_twice",
                    "text": f"{count['n']:,} rows of {between[0]} to {between[1]} stand in several files with the same figures: each counts once, the larger where they differ.",
                }
            )
        else:
            notes.append(
                {
                    "code": "added_up",
                    "text": f"{count['n']:,} rows of {between[0]} to {between[1]} stand in several files with different figures: they are added up. If they are the same traffic, leave one file out.",
                }
            )
    return table, notes


def _suspects(engine: AnyEngine, rows: ibis.Table, keys: list[str], days: list[date]) -> ibis.Table:
    """Rows whose key may be in several files, found by a hash of each key, some days at a time, to limit memory."""
    rest = [rows[key].fill_null("\x1e") for key in keys if key not in ("date", "page")]
    marked = rows.mutate(mark=engine.key(ibis.literal("\x1f").join(rest)), place=rows.page_key.fill_null(0))
    passes = min(int(engine.fetch(rows.aggregate(n=rows.count()))["n"].iloc[0]) // ROWS_AT_ONCE + 1, len(days))
    result = []
    for part in np.array_split(np.array(days, dtype=object), passes):
        some = marked.filter(marked.date.between(_day(part[0]), _day(part[-1])))
        files = some.group_by("place", "date", "mark").aggregate(least=some.file.min(), most=some.file.max())
        result.append(engine.keep(files.filter(files.least != files.most).select("place", "date", "mark")))
    several = stacked(result)
    return marked.semi_join(several, ["place", "date", "mark"]).drop("place", "mark")


def _day(day: Any) -> Any:
    return ibis.literal(day, "date")


def settle_undated(engine: AnyEngine, table: ibis.Table, numbers: dict[int, tuple[Any, Any]]) -> ibis.Table:
    """Undated rows, set aside where dated rows of the same page and grain lie in the days they cover.

    Args:
        table: rows with file, page_id, grain, date, undated, aside.
        numbers: file -> (first, last) day of the undated files.
    """
    if not numbers:
        return table
    spans = engine.frame(
        pd.DataFrame([(n, a, b) for n, (a, b) in numbers.items()], columns=["file", "start", "end"]).astype({"file": "int32"})
    )
    dated = table.filter(table.aside.isnull() & ~table.undated & table.page_id.notnull())
    inside = dated.join(spans, [dated.date >= spans.start, dated.date <= spans.end]).select(page_dated="page_id", file_dated="file_right")
    known = engine.keep(inside.distinct().mutate(known=True))
    joined = table.left_join(known, [table.page_id == known.page_dated, table.file == known.file_dated])
    covered = joined.aside.isnull() & joined.undated & joined.known.fill_null(False)
    aside = ibis.cases((covered, "dated rows cover this page"), else_=joined.aside)
    return joined.mutate(aside=aside, free=joined.free & ~covered).drop("page_dated", "file_dated", "known")
