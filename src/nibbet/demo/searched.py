"""The searches of the invented world: exports of results and of search volumes."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd

from nibbet.demo.builder import PARTIAL_DAYS, World
from nibbet.demo.simulate import calendar, courses, season_wave

#: other sites (reserved names); endings of their titles; related questions
OTHERS = ("paddlers", "waterways", "outdoor-notes", "boathouse", "lakeside", "rapids", "canoe-times", "open-water", "riverbank", "kit-room")
ENDINGS = ("a complete guide", "what to know first", "maps and tips", "tested and compared", "for beginners", "prices and dates")
QUESTIONS = (
    "How long does {} take?",
    "Is {} safe for beginners?",
    "What do you need for {}?",
    "When is the best time for {}?",
    "How much does {} cost?",
)
#: subjects that are searched and that the site does not cover
MISSING = ("hammock camping", "canoe sailing rig", "river camping stove")
MISSING_ASKS = ("{}", "{} guide", "best {}", "{} for beginners", "how to start {}")
#: the section whose searches are the same in every month of the demand export, whatever its season
FLAT = "technique"


def asked_for(world: World) -> pd.DataFrame:
    """One row per query: query, demand (searches a day), season, trend, and intent (the unit whose pages answer it, or a subject that no page
    answers).
    """
    pairs = world.pairs[(world.pairs["query"] != "") & ~world.pairs["brand"].astype(bool)]
    stray = pairs["role"] == "stray"
    kind = pairs["page"].map(world.pages.set_index("page")["kind"])
    intent: pd.Series = pairs["unit"].astype("str") + np.where(
        stray, "-stray-" + pairs["page"].astype("str"), "-" + kind.where(kind != "journal", "rivers")
    )
    rows = pairs.assign(intent=intent, query=pairs["query"].str.lower(), own=(pairs["role"] == "own") | stray)
    rows = rows.sort_values(["query", "own", "demand", "page"], ascending=[True, False, False, True]).drop_duplicates("query")
    missing = [(ask.format(subject), 9.0 / (n + 1), f"missing-{subject}") for subject in MISSING for n, ask in enumerate(MISSING_ASKS)]
    more = pd.DataFrame(missing, columns=["query", "demand", "intent"]).assign(season="level", trend="level")
    return pd.concat([rows[list(more.columns)], more], ignore_index=True)


def _own_places(world: World, home: str) -> pd.DataFrame:
    """By query, the best page of the site among the results: place, address, title."""
    pages = world.pages[(world.pages["status"] == 200) & ~world.pages["noindex"]].set_index("page")
    pairs = world.pairs[(world.pairs["query"] != "") & world.pairs["page"].isin(pages.index)]
    best = (
        pairs.assign(query=pairs["query"].str.lower())
        .sort_values(["query", "position", "page"])
        .drop_duplicates("query")
        .set_index("query")
    )
    return pd.DataFrame(
        {"place": best["position"].round(), "address": home + best["page"].map(pages["path"]), "title": best["page"].map(pages["title"])}
    )


def write_results(path: Path, world: World, home: str) -> None:
    """Write the first ten results and some related questions of most queries; queries with one intent share most results."""
    rng = np.random.default_rng([world.seed, 5])
    queries = asked_for(world)
    queries = queries[(rng.random(len(queries)) < 0.7) | queries["intent"].str.startswith("missing")].reset_index(drop=True)
    head = queries.sort_values("query", key=lambda text: text.str.len()).drop_duplicates("intent").set_index("intent")["query"]
    rows = queries.loc[queries.index.repeat(10)].reset_index()
    place = np.tile(np.arange(10), len(queries))
    swapped = rng.random(len(rows)) < 0.2
    host = np.where(swapped, rng.integers(0, len(OTHERS), len(rows)), place)
    subject = rows["intent"].map(head)
    slug: pd.Series = subject.str.replace(" ", "-") + np.where(swapped, "-" + rng.integers(1, 400, len(rows)).astype("str"), "")
    results = pd.DataFrame(
        {
            "Search term": rows["query"],
            "Seen on": "2026-10-20",
            "Rank": place + 1,
            "Address": [f"https://{OTHERS[h]}.example/{s}" for h, s in zip(host, slug, strict=True)],
            "Headline": [f"{s.capitalize()}: {ENDINGS[h % len(ENDINGS)]}" for h, s in zip(host, subject, strict=True)],
            "Type": "result",
            "order": rows["index"] * 20 + place,
        }
    )
    site_places = _own_places(world, home).reindex(rows["query"])
    ours = (site_places["place"] == place + 1).to_numpy()
    results.loc[ours, ["Address", "Headline"]] = site_places.loc[ours, ["address", "title"]].to_numpy()
    some = queries.loc[queries.index.repeat(len(QUESTIONS))].reset_index()
    number = np.tile(np.arange(len(QUESTIONS)), len(queries))
    shown = rng.random(len(some)) < 0.5 / (1 + number)
    questions = pd.DataFrame(
        {
            "Search term": some["query"],
            "Seen on": "2026-10-20",
            "Rank": number + 1,
            "Address": "",
            "Headline": [QUESTIONS[n].format(s) for n, s in zip(number, some["intent"].map(head), strict=True)],
            "Type": "question",
            "order": some["index"] * 20 + 10 + number,
        }
    )[shown]
    table = pd.concat([results, questions]).sort_values("order", kind="stable").drop(columns="order")
    table.to_csv(path, index=False, lineterminator="\n", compression={"method": "gzip", "compresslevel": 4, "mtime": 0})


def write_demand(path: Path, world: World) -> None:
    """Write the searches of every complete month for queries with enough of them; those of one section are the same in every month."""
    rng = np.random.default_rng([world.seed, 6])
    queries, days = asked_for(world), calendar()[:-PARTIAL_DAYS]
    season = queries["season"].replace({"home": "shop", "legal": "level"})
    kinds = pd.DataFrame({"season": season, "trend": queries["trend"]}).drop_duplicates()
    daily = season_wave(kinds["season"], days) * courses(kinds["trend"], days)
    monthly = pd.DataFrame(daily, index=pd.MultiIndex.from_frame(kinds), columns=days.to_period("M")).T.groupby(level=0).mean().T
    monthly.loc[monthly.index.get_level_values("season") == FLAT] = 1.0
    wave = monthly.loc[pd.MultiIndex.from_arrays([season, queries["trend"]])].to_numpy()
    meant = queries["demand"].to_numpy()[:, None] * wave * 30.4 * 1.1
    searches = np.where((season == FLAT).to_numpy()[:, None], np.round(meant), rng.poisson(meant)).astype(np.int64)
    table = pd.DataFrame(searches, index=queries["query"].rename("Keyword"), columns=monthly.columns.astype(str).rename("Month"))
    rows = table.melt(ignore_index=False, value_name="Searches").reset_index()
    rows[rows["Searches"] >= 10].sort_values(["Keyword", "Month"]).to_csv(path, index=False, lineterminator="\n")
