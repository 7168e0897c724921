"""Writes the world as exports of the kind that an analyst receives: in parts, with preambles, different spellings and languages, a row limit, a total row."""

from __future__ import annotations

import gzip
from collections.abc import Callable
from datetime import date, timedelta
from itertools import islice
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from nibbet.demo import vocabulary as words
from nibbet.demo.builder import FIRST_DAY, LAST_COMPLETE_DAY, LEVELS, World
from nibbet.demo.deeds import write_events
from nibbet.demo.links import write_backlinks, write_links, write_vitals
from nibbet.demo.scenario import build
from nibbet.demo.searched import write_demand, write_results
from nibbet.demo.simulate import calendar, simulate
from nibbet.demo.site_files import remembered_of, write_site_files

Floats = NDArray[np.float64]

HOME = "https://tarnbrook.example"
#: dates of the inventories: before any title changed, and now
CRAWLED_BEFORE, CRAWLED = LAST_COMPLETE_DAY - timedelta(days=183), LAST_COMPLETE_DAY + timedelta(days=2)
CAP, CAPPED_MONTH = 40_000, 9  # row limit of the query export of one month
#: blocks of the world in memory at once
BLOCKS_AT_ONCE = 8
TRUTH_HEAD = "page,case,verdict,also_right,cause,target,repair,repair_target"
#: first line of a truth.csv written by this module, in every version
OURS = "page,case,verdict"

SETTINGS = """\
# Tarnbrook, an invented outfitter for kayak and canoe touring.
[site]
home = "https://tarnbrook.example/"
hosts = ["shop.tarnbrook.example"]
brand = ["tarnbrook", "tarn brook"]

[[source]]
kind = "search"
files = "search/*.csv.gz"

[[source]]
kind = "landings"
files = "visits/*.csv"

[[source]]
kind = "events"
files = "events.csv"

[[source]]
kind = "crawl"
files = "inventory*.xlsx"

[[source]]
kind = "links"
files = "links.csv"

[[source]]
kind = "vitals"
files = "vitals.csv"

[[source]]
kind = "editorial"
files = "editorial.csv"

[[source]]
kind = "backlinks"
files = "backlinks.csv"

[[source]]
kind = "results"
files = "results.csv.gz"

[[source]]
kind = "demand"
files = "searches.csv"

[[source]]
kind = "sitemap"
files = "sitemap.xml"

[[source]]
kind = "robots"
files = "robots.txt"

[[source]]
kind = "hits"
files = "server.log.gz"

[protect]
pages = ["/legal/*"]

[groups.queries]
hire = ["hire"]
beginners = ["beginner", "beginners", "learn"]
questions = ["re:^(how|which|where|what|is) "]

[about]
notes = "about.md"

[value]
conversion = 18.0
currency = "EUR"
"""


ABOUT = """# Tarnbrook, an invented outfitter

## What we sell
- kayak hire, canoe hire
- paddling courses
- dry bags, kit for canoe touring
- guided tours

## For whom
Families and beginners; experienced tourers from spring to autumn

## Tone
Plain, calm, exact about water levels and safety

## Not wanted
- motor boats
- boat insurance
"""


def write(
    folder: Path, *, pages: int = 400, seed: int = 7, level: str = "easy", on_share: Callable[[float], None] = lambda _: None
) -> World:
    """Write the exports and nibbet.toml into `folder`, and truth.csv beside it; equal arguments give equal bytes.

    level: easy, usual or hard (how clear the planted cases are). on_share: is called with the share written so far, 0 to 1.
    Raises FileExistsError if the truth.csv beside the folder was not written by this function.
    """
    truth = folder.parent / "truth.csv"
    if truth.exists() and not truth.read_text("utf-8", "replace").startswith(OURS):
        raise FileExistsError(str(truth))
    world = build(pages, seed, LEVELS[level])
    for part in ("search", "visits"):
        (folder / part).mkdir(parents=True, exist_ok=True)
    rng, blocks, sums, lived = np.random.default_rng([seed, 3]), simulate(world), np.zeros(5), 0
    while portion := list(islice(blocks, BLOCKS_AT_ONCE)):
        first = not sums.any()
        search = pd.concat([block.search for block in portion], ignore_index=True)
        visits = pd.concat([block.visits for block in portion], ignore_index=True)
        _write_search(folder / "search", world, search, rng, first=first)
        sums += _write_visits(folder / "visits" / "landing-pages.csv", world, visits, rng, first=first)
        write_events(folder / "events.csv", world, visits, first=first)
        lived += sum(block.pages for block in portion)
        on_share(lived / len(world.pages))
    _write_total(folder / "visits" / "landing-pages.csv", sums)
    _write_inventory(folder / "inventory.xlsx", world, CRAWLED)
    _write_inventory(folder / f"inventory-{CRAWLED_BEFORE}.xlsx", world, CRAWLED_BEFORE)
    _write_editorial(folder / "editorial.csv", world)
    write_backlinks(folder / "backlinks.csv", world, rng)
    write_results(folder / "results.csv.gz", world, HOME)
    write_demand(folder / "searches.csv", world)
    write_links(folder / "links.csv", world, HOME.rstrip("/"))
    write_vitals(folder / "vitals.csv", world, HOME.rstrip("/"))
    write_site_files(folder, world, HOME.rstrip("/"))
    (folder / "about.md").write_text(ABOUT, "utf-8")
    (folder / "nibbet.toml").write_text(SETTINGS, "utf-8")
    _truth(world).to_csv(truth, index=False, lineterminator="\n")
    return world


def _truth(world: World) -> pd.DataFrame:
    former = remembered_of(world).rename(columns={"target": "repair_path"}).assign(case="remembered", repair="error")
    parts = [world.pages, former.assign(verdict="", also_right="", cause="", target_path="")]
    frame = pd.concat(parts)[["path", "case", "verdict", "also_right", "cause", "target_path", "repair", "repair_path"]]
    frame["path"] = HOME + frame["path"]
    for name in ("target_path", "repair_path"):
        frame[name] = np.where(frame[name] == "", "", HOME + frame[name])
    return frame.set_axis(TRUTH_HEAD.split(","), axis=1)


def _csv_bytes(frame: pd.DataFrame, *, sep: str, header: bool) -> bytes:
    """The rows as delimited text. Texts are quoted only if one of them needs it."""
    import pyarrow as pa
    from pyarrow import csv

    table, text = pa.Table.from_pandas(frame, preserve_index=False), pa.BufferOutputStream()
    try:
        csv.write_csv(table, text, csv.WriteOptions(include_header=False, delimiter=sep, quoting_style="none"))
    except pa.ArrowInvalid:  # a cell contains the delimiter
        text = pa.BufferOutputStream()
        csv.write_csv(table, text, csv.WriteOptions(include_header=False, delimiter=sep, quoting_style="needed"))
    body: bytes = text.getvalue().to_pybytes()
    return (sep.join(frame.columns) + "\n" if header else "").encode() + body


def _gzip(path: Path, frame: pd.DataFrame, *, sep: str, first: bool = True) -> None:
    """Write a gzip file, or append a member to the existing one."""
    with (
        path.open("wb" if first else "ab") as file,
        gzip.GzipFile(fileobj=file, mode="wb", mtime=0, filename="", compresslevel=4) as packed,
    ):
        packed.write(_csv_bytes(frame, sep=sep, header=first))


def _spelt_in_search(world: World, rows: pd.DataFrame, rng: np.random.Generator) -> pd.Series:
    """Addresses as search exports spell them: https and www for guides, the shop's own host for products, and jump links that split one page over two rows."""
    host = np.where(world.pages["kind"] == "shop", "https://shop.tarnbrook.example", "https://www.tarnbrook.example")
    plain = pd.Series(host, index=world.pages["page"]) + world.pages.set_index("page")["path"]
    jumps = (rows["page"].to_numpy() % 11 == 4) & (rng.random(len(rows)) < 0.15)
    return rows["page"].map(plain) + np.where(jumps, "#part-2", "")


#: countries of searchers with their shares; the country of each other language
COUNTRIES = ("GB", "GB", "GB", "GB", "GB", "GB", "GB", "IE", "IE", "US")
ABROAD = {"de": "DE", "fr": "FR", "es": "ES"}


def _country(rows: pd.DataFrame, queries: pd.Series | None = None) -> np.ndarray[Any, Any]:
    """The country of each row: one per page, day and device; for queries in another language the country of that language."""
    number = rows["page"].to_numpy() * 11 + rows["day"].to_numpy() * 7
    result: np.ndarray[Any, Any] = np.array(COUNTRIES, dtype=object)[number % len(COUNTRIES)]
    if queries is not None:
        for language, country in ABROAD.items():
            pattern = "|".join(max(form.split("{}"), key=len).strip() for form in words.ABROAD[language].split("|"))
            result[queries.str.contains(pattern, regex=True).to_numpy()] = country
    return result


def _write_images(path: Path, per_page: pd.DataFrame, *, first: bool) -> None:
    """Write the rows of image search for pages with pictures: many impressions and few clicks, in addition to web search."""
    days = pd.Series(calendar())
    rows = per_page[per_page["spelt"].str.contains("/(?:kit|shop|lakes)/", regex=True) & (per_page["device"] == "mobile")]
    rows = rows.drop_duplicates(["day", "page", "spelt"])
    count = rows["impressions"].to_numpy() * 2
    table = {
        "Day": days.dt.strftime("%Y-%m-%d")[rows["day"]].to_numpy(),
        "Address": rows["spelt"].to_numpy(),
        "Search type": "Image",
        "Clicks": rows["clicks"].to_numpy() // 8,
        "Shown": count,
        "Place": (8 + rows["page"].to_numpy() % 9 + rows["day"].to_numpy() % 5 / 5).round(1),
    }
    _gzip(path, pd.DataFrame(table), sep=",", first=first)


def _write_search(folder: Path, world: World, search: pd.DataFrame, rng: np.random.Generator, *, first: bool) -> None:
    days = pd.Series(calendar())
    search = search.assign(country=_country(search, search["query"]))
    per_page = search.groupby(["day", "page", "device", "country"], as_index=False)[["clicks", "impressions", "places"]].sum()
    per_page["spelt"] = _spelt_in_search(world, per_page, rng)
    stranger = per_page.tail(3).assign(spelt="https://forum.tarnbrook.example/thread/1", clicks=1, impressions=9, places=40)
    per_page = pd.concat([per_page, stranger], ignore_index=True) if first else per_page
    _write_images(folder / "images.csv.gz", per_page, first=first)
    quarter = (days.dt.year * 4 + days.dt.quarter - 1).to_numpy()[per_page["day"]]
    for part in np.unique(quarter):
        rows = per_page[quarter == part]
        _gzip(
            folder / f"pages-{part // 4}q{part % 4 + 1}.csv.gz",
            pd.DataFrame(
                {
                    "Day": days.dt.strftime("%Y-%m-%d")[rows["day"]].to_numpy(),
                    "Address": rows["spelt"].to_numpy(),
                    "Device type": rows["device"].to_numpy(),
                    "Country": rows["country"].to_numpy(),
                    "Clicks": rows["clicks"].to_numpy(),
                    "Shown": rows["impressions"].to_numpy(),
                    "Place": (rows["places"] / rows["impressions"]).round(4).to_numpy(),
                }
            ),
            sep=",",
            first=first,
        )
    named = search[search["query"] != ""]
    named = named.assign(spelt=_spelt_in_search(world, named, rng))
    month = (days.dt.year * 12 + days.dt.month - 1).to_numpy()[named["day"]]
    for number, part in enumerate(np.unique(month)):
        rows = named[month == part].sort_values(
            ["clicks", "impressions", "day", "page", "query"], ascending=[False, False, True, True, True], kind="stable"
        )
        if number == CAPPED_MONTH and not first:
            continue  # beyond the row limit
        if number == CAPPED_MONTH and len(rows) > CAP:
            rows = rows.head(CAP)
        _gzip(
            folder / f"queries-{part // 12}-{part % 12 + 1:02d}.csv.gz",
            pd.DataFrame(
                {
                    "Tag": days.dt.strftime("%d.%m.%Y")[rows["day"]].to_numpy(),
                    "Suchbegriff": rows["query"].to_numpy(),
                    "Zielseite": rows["spelt"].to_numpy(),
                    "Gerät": rows["device"].to_numpy(),
                    "Land": rows["country"].to_numpy(),
                    "Klicks": rows["clicks"].to_numpy(),
                    "Einblendungen": rows["impressions"].to_numpy(),
                    "Mittlere Position": (rows["places"] / rows["impressions"])
                    .round(2)
                    .map("{:.2f}".format)
                    .str.replace(".", ",")
                    .to_numpy(),
                }
            ),
            sep=";",
            first=first,
        )


def _spelt_in_visits(world: World, visits: pd.DataFrame, rng: np.random.Generator) -> pd.Series:
    paths = world.pages.set_index("page")["path"]
    number = visits["page"].to_numpy()
    path = visits["page"].map(paths)
    path = path.where(number % 2 == 0, path.str.rstrip("/")).where(path != "/", "/index.html")
    shouted = (visits["channel"] == "social") & (number % 17 == 3)
    path = path.where(~shouted, path.str.title())
    referred = (visits["channel"] == "referral") & (number % 5 == 1)
    letter = (visits["channel"] == "newsletter") & (rng.random(len(visits)) < 0.7)
    return path + np.where(letter, "?utm_source=letter&utm_medium=email", np.where(referred, "?ref=partner", ""))


#: referrers of each channel; the last one only from `NEW_SENDER` days before the end
SENDERS = {
    "organic": ["anyfinder.example", "anyfinder.example", "anyfinder.example", "seekwell.example"],
    "direct": ["direct"],
    "newsletter": ["letter"],
    "social": ["chatter.example", "pictures.example"],
    "referral": ["paddlers.example", "visit-tarnbrook.example", "anglers.example", "outdoor-news.example"],
    "paid": ["anyfinder.example"],
}
NEW_SENDER = 60


def _senders(rows: pd.DataFrame) -> np.ndarray[Any, Any]:
    """The referring site or service of each row of visits; one of them is new."""
    number, day = rows["page"].to_numpy() * 7 + rows["day"].to_numpy(), rows["day"].to_numpy()
    result = np.empty(len(rows), dtype=object)
    for channel, names in SENDERS.items():
        mine = (rows["channel"] == channel).to_numpy()
        several = np.array(names, dtype=object)
        old = len(several) - (channel == "referral")
        late = (day >= len(calendar()) - NEW_SENDER) & (channel == "referral")
        result[mine] = several[np.where(late, number % len(several), number % old)][mine]
    return result


def _write_visits(path: Path, world: World, visits: pd.DataFrame, rng: np.random.Generator, *, first: bool) -> Floats:
    """Write these visits, or append them to the file. Returns their sums."""
    days = pd.Series(calendar())
    rows = visits.assign(spelt=_spelt_in_visits(world, visits, rng))
    unknown = rows.sample(180 if first else 0, random_state=world.seed).assign(spelt="(unbekannt)", conversions=0, revenue=0.0)
    rows = pd.concat([rows, unknown], ignore_index=True).sort_values(["day", "page", "channel"], kind="stable")
    names = {
        "organic": "Organische Suche",
        "direct": "Direkt",
        "newsletter": "E-Mail",
        "social": "Soziale Netze",
        "referral": "Verweis",
        "paid": "Bezahlte Suche",
    }
    table = pd.DataFrame(
        {
            "Datum": days.dt.strftime("%d.%m.%Y")[rows["day"]].to_numpy(),
            "Einstiegsseite": rows["spelt"].to_numpy(),
            "Kanal": rows["channel"].map(names).to_numpy(),
            "Land": _country(rows),
            "Quelle": _senders(rows),
            "Sitzungen": rows["sessions"].to_numpy(),
            "Interessierte Sitzungen": rows["engaged"].to_numpy(),
            "Verweildauer gesamt (s)": rows["seconds"].astype(int).to_numpy(),
            "Abschlüsse": rows["conversions"].to_numpy(),
            "Umsatz": rows["revenue"].map("{:.2f}".format).str.replace(".", ",").to_numpy(),
        }
    )
    head = f"# Einstiegsseiten nach Kanal und Quelle\n# Zeitraum: {days.iloc[0]:%d.%m.%Y} - {days.iloc[-1]:%d.%m.%Y}\n\n"
    with path.open("wb" if first else "ab") as file:
        file.write(head.encode("utf-8-sig") if first else b"")
        file.write(_csv_bytes(table, sep=";", header=first))
    counted = table[["Sitzungen", "Interessierte Sitzungen", "Verweildauer gesamt (s)", "Abschlüsse"]].sum()
    return np.array([*counted, rows["revenue"].sum()], dtype=float)


def _write_total(path: Path, sums: Floats) -> None:
    total = ";".join(["", "Summe", "", "", "", *(f"{value:.0f}" for value in sums[:4]), f"{sums[4]:.2f}".replace(".", ",")])
    with path.open("ab") as file:
        file.write(f"{total}\n".encode())


def _write_inventory(path: Path, world: World, day: date) -> None:
    """Write the inventory of that day, with the titles and descriptions of that day."""
    import xlsxwriter

    rng, pages = np.random.default_rng([world.seed, 4]), world.pages
    crawled = pages[~((pages["case"] == "dead_alone") & (pages["page"] % 4 == 0)) & (pages["published"] < day)]
    if day < CRAWLED:
        retitled, sound = crawled["case"].eq("retitled"), crawled["onset"] > (day - FIRST_DAY).days
        crawled = crawled.assign(**{name: crawled[f"{name}_before"].where(retitled, crawled[name]) for name in ("title", "description")})
        crawled = crawled.assign(status=crawled["status"].mask(sound, 200), noindex=crawled["noindex"] & ~sound)
        crawled["redirect_path"] = crawled["redirect_path"].mask(sound, "")
    head = [
        "Address of page",
        "HTTP status",
        "Leads to",
        "Canonical",
        "Robots",
        "Title",
        "Summary",
        "Main heading",
        "Subheadings",
        "Words",
        "Internal links in",
        "Internal links out",
        "Depth",
        "First published",
        "Last changed",
        "Language",
        "Crawled on",
    ]
    with xlsxwriter.Workbook(path, {"strings_to_urls": False, "strings_to_formulas": False, "default_date_format": "yyyy-mm-dd"}) as book:
        from datetime import datetime

        book.set_properties({"created": datetime(2026, 11, 1)})
        sheet = book.add_worksheet("Inventory")
        sheet.write_row(0, 0, head)
        page: Any
        for number, page in enumerate(crawled.itertuples(), 1):
            address = HOME + page.path
            leads_to = HOME + page.redirect_path if page.redirect_path else ""
            alive = page.status == 200
            sheet.write_row(
                number,
                0,
                [
                    address,
                    page.status,
                    leads_to,
                    address if alive else "",
                    "noindex" if page.noindex else "index",
                    page.title if alive else "",
                    page.description if alive else "",
                    page.h1 if alive else "",
                    page.headings if alive else "",
                    page.words if alive else 0,
                    page.inlinks,
                    page.outlinks if alive else 0,
                    page.path.count("/") - 1,
                    None if page.undated else page.published,
                    _last_changed(page, int(rng.integers(0, 200)), day),
                    "en",
                    day,
                ],
            )


def _last_changed(page: Any, after: int, day: date) -> date:
    """The date of the last change of each page: that of its new title where it has one by then, else a random day after publication."""
    titled: date = FIRST_DAY + timedelta(days=int(page.onset))
    if page.case == "retitled" and titled < day:
        return titled
    changed: date = min(page.published + timedelta(days=after), calendar()[-1].date(), day)
    return changed


def _write_editorial(path: Path, world: World) -> None:
    pages = world.pages[world.pages["status"] == 200]
    head = world.pairs[world.pairs["query"] != ""].groupby("page")["query"].first()
    pd.DataFrame(
        {
            "Page": "tarnbrook.example" + pages["path"],
            "Published on": pd.to_datetime(pages["published"]).dt.strftime("%d %b %Y").where(~pages["undated"].astype(bool), ""),
            "Meant for": np.where(pages["page"] % 9 == 0, pages["page"].map(head).fillna(""), ""),
            "Kind": pages["kind"],
            "Protected": np.where(pages["protected"], "yes", "no"),
        }
    ).to_csv(path, index=False, lineterminator="\n")
