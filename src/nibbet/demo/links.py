"""Internal and outgoing links of the invented site, with faults, and the speed of its pages, as a crawler and a field study export them."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd

from nibbet.demo.builder import World

#: number of pages of its section to which a page links
SIBLINGS = 4
#: kinds of pages that link to the page on the same subject in another section
ACROSS = (("journal", "rivers"), ("journal", "lakes"), ("rivers", "hire"), ("lakes", "hire"), ("kit", "shop"), ("technique", "courses"))
#: share of links to other sites with a target that fails, and with one that redirects
DEAD_OUTSIDE, MOVED_OUTSIDE = 0.1, 0.06
#: shares of slow and of middling pages; least visits of a measured page
SLOW, MIDDLING, MEASURED = 0.06, 0.1, 40
#: anchors without meaning, and their share of links in texts
GENERAL, SAID_GENERAL = ("read on", "more about this"), 0.15
#: share of pages to which other sites link with one phrase alone, share with anchors without meaning; number of such links from other sites
STUFFED, SILENT, PHRASED = 0.008, 0.012, 16
#: seconds until the largest content is drawn, for quick, middling and slow pages
SECONDS = {"good": (1.2, 2.3), "middling": (2.6, 3.8), "poor": (4.3, 7.0)}


def links_of(world: World) -> pd.DataFrame:
    """One row per link: source, target (paths; addresses for other sites), anchor, place, status (of the target), moved (target of its redirect)."""
    pages = world.pages.set_index("path", drop=False)
    alive = pages[pages["status"] == 200]
    linked = pages[(pages["inlinks"] > 0) & (pages["path"] != "/")]
    section = linked["path"].str.extract(r"^(/[^/]*/)", expand=False)
    of_section = {str(name): rows["path"].tolist() for name, rows in linked.groupby(section)}
    hubs = [path for path in pages.index[pages["path"].str.count("/") == 2] if path in linked.index]
    legal = next((path for path in linked["path"] if path.startswith("/legal/")), "/")
    parts = [
        pd.MultiIndex.from_product([alive.index, ["/", *hubs]], names=["source", "target"])
        .to_frame(index=False)
        .assign(place="navigation"),
        pd.DataFrame(_inner(alive, set(hubs), of_section), columns=["source", "target"]).assign(place="main"),
        _across(alive, linked).assign(place="main"),
        pd.DataFrame({"source": alive.index, "target": legal, "place": "footer"}),
    ]
    inside = pd.concat(parts, ignore_index=True)
    inside["anchor"] = _anchors(world, inside, linked)
    inside = inside.assign(status=inside["target"].map(pages["status"]), moved=inside["target"].map(pages["redirect_path"]).fillna(""))
    table = pd.concat([inside, _outside(world)], ignore_index=True)
    order = table["source"].map(pd.Series(np.arange(len(pages)), index=pages.index))
    return table.iloc[np.argsort(order.to_numpy(), kind="stable")].reset_index(drop=True)


def _chosen(world: World, share: float, seed: int) -> pd.Series:
    """Paths of some steady pages, at least two."""
    steady = world.pages[(world.pages["case"] == "healthy") & (world.pages["inlinks"] > 0)].sort_values("page")
    order = np.random.default_rng([world.seed, seed]).permutation(len(steady))
    return steady["path"].iloc[order[: max(2, round(len(world.pages) * share))]]


def stuffed_of(world: World) -> pd.Series:
    """Paths of the pages to which all links from other sites have the same anchor."""
    return _chosen(world, STUFFED, 16)


def silent_of(world: World) -> pd.Series:
    """Paths of the pages to which the site links with anchors without meaning; some have too few links to be detected."""
    return _chosen(world, SILENT, 17)


def _anchors(world: World, inside: pd.DataFrame, linked: pd.DataFrame) -> pd.Series:
    """The anchor of each link: in menus the heading of the target; in texts also its subject, and now and then words without meaning."""
    rng = np.random.default_rng([world.seed, 18])
    chance, general = rng.random(len(inside)), pd.Series(rng.choice(GENERAL, len(inside)), index=inside.index, dtype="str")
    heading = inside["target"].map(linked["h1"]).where(inside["target"] != "/", "Tarnbrook").fillna(inside["target"])
    about = inside["target"].map(linked["subject"])
    text = heading.where((chance > 0.4) | about.isna(), "all on " + about)
    again = inside.duplicated("target")  # the first link to a page has its name as anchor
    silent = inside["target"].isin(silent_of(world))
    return text.where(~((chance > 1 - SAID_GENERAL) & again | silent), general).where(inside["place"] == "main", heading)


def _inner(alive: pd.DataFrame, hubs: set[str], of_section: dict[str, list[str]]) -> list[tuple[str, str]]:
    """Source and target of links in texts: a hub links to all pages of its section, any other page to some of them."""
    result = []
    for path, number in zip(alive["path"], alive["page"], strict=True):
        siblings = [one for one in of_section.get("/" + path.split("/")[1] + "/", []) if one != path] if path != "/" else []
        if siblings and path not in hubs:
            start = int(number) % len(siblings)
            siblings = (siblings[start:] + siblings[:start])[:SIBLINGS]
        result += [(path, one) for one in siblings]
    return result


def _across(alive: pd.DataFrame, linked: pd.DataFrame) -> pd.DataFrame:
    """Links to the page on the same subject in another section: from a journal to its river, from a guide to products and hire."""
    both = alive[["path", "subject", "kind"]].merge(linked[["path", "subject", "kind"]], on="subject", suffixes=("", "_to"))
    leads = pd.Series(list(zip(both["kind"], both["kind_to"], strict=True)), index=both.index).isin(ACROSS)
    return both[leads].rename(columns={"path": "source", "path_to": "target"})[["source", "target"]]


def _outside(world: World) -> pd.DataFrame:
    """The links of the journal to other sites."""
    rng = np.random.default_rng([world.seed, 11])
    journal = world.pages[(world.pages["kind"] == "journal") & (world.pages["status"] == 200)]
    number = rng.integers(1, 900, len(journal))
    target = pd.Series([f"https://paddlers-{n % 40}.example/post/{n}" for n in number], index=journal.index, dtype="str")
    chance = np.random.default_rng([world.seed, 12]).random(900)[
        number - 1
    ]  # whether an address fails does not depend on the page that links to it
    status = np.select([chance < DEAD_OUTSIDE, chance < DEAD_OUTSIDE + MOVED_OUTSIDE], [404, 301], 200)
    return pd.DataFrame({
        "source": journal["path"], "target": target, "anchor": "another trip on this water", "place": "main", "status": status,
        "moved": (target + "/again").where(status == 301, ""),
    })  # fmt: skip


def vitals_of(world: World) -> pd.DataFrame:
    """Speed of the pages that exist: path, device, loading (s), responding (ms), shifting, samples, rating (good, middling, poor) as planted."""
    rng = np.random.default_rng([world.seed, 13])
    alive = world.pages[world.pages["status"] == 200].reset_index(drop=True)
    chance = rng.random(len(alive))
    rating = np.select([chance < SLOW, chance < SLOW + MIDDLING], ["poor", "middling"], "good")
    low, high = (pd.Series(rating).map({name: ends[side] for name, ends in SECONDS.items()}).to_numpy() for side in (0, 1))
    table = pd.DataFrame({
        "path": alive["path"], "loading": rng.uniform(low, high).round(2), "responding": rng.integers(60, 190, len(alive)),
        "shifting": rng.uniform(0.0, 0.09, len(alive)).round(3), "samples": rng.integers(MEASURED, 4_000, len(alive)), "rating": rating,
    })  # fmt: skip
    return table.assign(device="mobile")


def write_links(path: Path, world: World, home: str) -> None:
    """Write the links as an export of a crawler."""
    links = links_of(world)
    whole = [
        column.where(column.str.startswith("http") | column.eq(""), home + column)
        for column in (links["source"], links["target"], links["moved"])
    ]
    pd.DataFrame({
        "Linking page": whole[0], "Linked page": whole[1], "Link text": links["anchor"], "Area": links["place"], "Status": links["status"],
        "Redirected to": whole[2],
    }).to_csv(path, index=False, lineterminator="\n")  # fmt: skip


def write_vitals(path: Path, world: World, home: str) -> None:
    """Write the speed of pages as an export of a field study."""
    table = vitals_of(world)
    pd.DataFrame({
        "Page": home + table["path"], "Device": table["device"], "Month": "2026-10", "Largest contentful paint p75 (s)": table["loading"],
        "Interaction to next paint p75 (ms)": table["responding"], "Cumulative layout shift p75": table["shifting"], "Visits measured": table["samples"],
    }).to_csv(path, index=False, lineterminator="\n")  # fmt: skip


def write_backlinks(path: Path, world: World, rng: np.random.Generator) -> None:
    """Write the links from other sites as one export."""
    rows = world.pages.loc[world.pages.index.repeat(world.pages["backlinks"])]
    number = rng.integers(1, 900, len(rows))
    praised = world.pages[world.pages["path"].isin(stuffed_of(world))]
    praised = praised.loc[praised.index.repeat(PHRASED)]
    words = np.random.default_rng([world.seed, 19])
    kind = words.choice(5, len(rows), p=[0.4, 0.2, 0.15, 0.1, 0.15])
    to = "http://tarnbrook.example" + pd.concat([rows["path"], praised["path"]])
    text = np.select(
        [kind == 0, kind == 1, kind == 2, kind == 3],
        [rows["subject"], "our day: " + rows["subject"], to.iloc[: len(rows)], "Tarnbrook"],
        "here",
    )
    number = np.append(number, np.arange(len(praised)) * 7 + 1)
    pd.DataFrame(
        {
            "Linking page": [f"https://paddlers-{n % 40}.example/post/{n}" for n in number],
            "Linked page": to.to_numpy(),
            "Link text": [*text, *("cheap offers " + praised["subject"])],
            "Seen since": [f"2025-{1 + n % 12:02d}-{1 + n % 28:02d}" for n in number],
        }
    ).to_csv(path, index=False, sep="\t", lineterminator="\n")
