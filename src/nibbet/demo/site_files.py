"""robots.txt, sitemap and access log of the invented site, with faults."""

from __future__ import annotations

import gzip
from datetime import datetime, timedelta
from pathlib import Path
from xml.sax.saxutils import escape

import numpy as np
import pandas as pd

from nibbet.demo.builder import LAST_COMPLETE_DAY, World

#: days in the access log, and days between two requests of a page by the robot of a search engine
LOGGED, VISITED_EVERY = 56, 9
ROBOT = "Mozilla/5.0 (compatible; Seekbot/3.0; +https://seek.example/bot)"
SCRIPT = "python-requests/2.32"
PEOPLE = (
    "Mozilla/5.0 (Windows NT 10.0; Win64; x64; rv:140.0) Gecko/20100101 Firefox/140.0",
    "Mozilla/5.0 (X11; Linux x86_64; rv:139.0) Gecko/20100101 Firefox/139.0",
    "Mozilla/5.0 (Android 15; Mobile; rv:140.0) Gecko/140.0 Firefox/140.0",
)
#: addresses that scripts try on any site
TRIED = ("/admin/", "/login.php", "/backup.zip", "/.env", "/shop/setup.php")
#: forms of old addresses, before the last move of the site, that visitors still request
FORMERLY = ("/{kind}/{name}.html", "/pages/{name}/", "/2019/{kind}/{name}/")


def robots_of(world: World, home: str) -> str:
    """robots.txt with the rules that block the planted pages, and a line that is not a rule."""
    closed = "".join(f"Disallow: {path}\n" for path in world.pages.loc[world.pages["case"] == "closed", "path"])
    return f"User-agent: *\nDisallow: /search/\n{closed}Noindex: /help/drafts/\n\nSitemap: {home}/sitemap.xml\n"


def listed_of(world: World) -> pd.DataFrame:
    """The entries of the sitemap: pages that exist and may be indexed, less the planted gaps, plus old addresses that redirect."""
    pages = world.pages
    alive = (pages["status"] == 200) & ~pages["noindex"] & (pages["case"] != "unlisted")
    return pages[alive | (pages["case"] == "moved_step")]


def sitemap_of(world: World, home: str) -> str:
    """sitemap.xml with the date of publication of pages that have one."""
    listed = listed_of(world)
    days = pd.to_datetime(listed["published"]).dt.strftime("<lastmod>%Y-%m-%d</lastmod>").where(~listed["undated"].astype(bool), "")
    entries = "".join(f"<url><loc>{escape(home + path)}</loc>{day}</url>\n" for path, day in zip(listed["path"], days, strict=True))
    return f'<?xml version="1.0" encoding="UTF-8"?>\n<urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9">\n{entries}</urlset>\n'


def remembered_of(world: World) -> pd.DataFrame:
    """Old addresses that visitors still request in vain: path, target (the page meant), hits."""
    rng = np.random.default_rng([world.seed, 14])
    pages = world.pages[
        (world.pages["status"] == 200) & ~world.pages["noindex"] & world.pages["kind"].isin(["rivers", "lakes", "technique", "kit"])
    ]
    pages = pages[pages["path"].str.count("/") == 3].sort_values("page")
    chosen = pages.iloc[np.sort(rng.permutation(len(pages))[: max(3, round(len(world.pages) * 0.012))])]
    name = chosen["path"].str.split("/").str[2]
    former = [FORMERLY[n % len(FORMERLY)].format(kind=k, name=one) for n, (k, one) in enumerate(zip(chosen["kind"], name, strict=True))]
    return pd.DataFrame({"path": former, "target": chosen["path"].to_numpy(), "hits": rng.integers(25, 90, len(chosen))})


def unfetched_of(world: World) -> pd.Series:
    """The paths of existing pages that no robot of a search engine has requested."""
    pages = world.pages
    return pages.loc[pages["case"].isin(["dead_selling", "dead_linked"]) & (pages["inlinks"] > 0) & (pages["page"] % 3 == 0), "path"]


def write_site_files(folder: Path, world: World, home: str) -> None:
    """Write robots.txt, sitemap.xml and the access log: requests by robots, and all requests that failed."""
    (folder / "robots.txt").write_text(robots_of(world, home), "utf-8")
    (folder / "sitemap.xml").write_text(sitemap_of(world, home), "utf-8")
    with gzip.GzipFile(folder / "server.log.gz", "wb", mtime=0, compresslevel=4) as packed:
        packed.write("".join(_log(world)).encode())


def _log(world: World) -> list[str]:
    """Lines in the common log format, ordered by time."""
    rng = np.random.default_rng([world.seed, 15])
    pages = world.pages[~world.pages["path"].isin(unfetched_of(world)) & (world.pages["case"] != "closed")]
    visits = LOGGED // VISITED_EVERY
    fetched = pages.loc[pages.index.repeat(visits), ["path", "status"]].assign(agent=ROBOT)
    turn = np.tile(np.arange(visits), len(pages)) + np.repeat(rng.random(len(pages)), visits)
    fetched["second"] = (turn * VISITED_EVERY * 86_400).astype(int)
    former = remembered_of(world)
    people = former.loc[former.index.repeat(former["hits"]), ["path"]].assign(status=404)
    people["agent"] = rng.choice(PEOPLE, len(people))
    tried = pd.DataFrame({"path": rng.choice(TRIED, 6 * LOGGED), "status": 404, "agent": SCRIPT})
    for part in (people, tried):
        part["second"] = rng.integers(0, LOGGED * 86_400, len(part))
    table = pd.concat([fetched, people, tried], ignore_index=True).sort_values(["second", "path"], kind="stable")
    begin = datetime.combine(LAST_COMPLETE_DAY - timedelta(days=LOGGED - 1), datetime.min.time())
    time = (pd.Timestamp(begin) + pd.to_timedelta(table["second"], unit="s")).dt.strftime("%d/%b/%Y:%H:%M:%S +0000")
    guest = rng.integers(1, 255, len(table))
    rows = zip(guest, time, table["path"], table["status"], table["agent"], strict=True)
    return [f'192.0.2.{who} - - [{at}] "GET {path} HTTP/1.1" {status} 512 "-" "{agent}"\n' for who, at, path, status, agent in rows]
