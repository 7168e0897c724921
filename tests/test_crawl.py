"""The crawl: a true inventory of the site, polite and safe whatever servers do, whole whenever it is stopped."""

from __future__ import annotations

import asyncio
import os
import shutil
import signal
import sqlite3
import subprocess
import sys
import time
from datetime import date
from pathlib import Path

import pandas as pd
import pytest

import nibbet
from hostile import OK, PAGE, WAYS, moved, plain, serving
from nibbet.cli.main import main
from nibbet.core.markup import decoded, read_markup
from nibbet.crawl import crawler, fetch, manners, reading
from nibbet.crawl.crawler import sitemap_entries, unpacked
from nibbet.crawl.fetch import Answer, Fetcher, is_public
from nibbet.crawl.frontier import Frontier
from nibbet.crawl.manners import Pace, Robots, retry_after
from nibbet.demo import serve
from nibbet.demo.scenario import build

LIVE = "https://tarnbrook.example/"


@pytest.fixture(autouse=True)
def impatient(monkeypatch: pytest.MonkeyPatch) -> None:
    """Servers of this machine that say nothing are waited for as long as tests can afford."""
    monkeypatch.setattr(fetch, "PIECE", 5.0)
    monkeypatch.setattr(manners, "USUAL_PAUSE", 0.5)
    monkeypatch.setattr(crawler, "FIRST_WAIT", 0.1)


def crawled(folder: Path, url: str, *more: str) -> pd.DataFrame:
    assert main(["crawl", url, str(folder), "-q", *more]) == 0
    return pd.read_parquet(folder / "crawl" / "pages.parquet").set_index("page")


def test_crawling_the_demo_gives_its_inventory(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    demo = build(60, 5)
    with serve.serving(demo) as url:
        found = crawled(tmp_path, url, "--as", LIVE)
        told = capsys.readouterr().out
        again = crawled(tmp_path, url, "--as", LIVE)
        unchanged = capsys.readouterr().out
    pages = demo.pages.assign(page=LIVE.rstrip("/") + demo.pages["path"]).set_index("page")
    both = pages.join(found.add_suffix("_found"), how="inner").rename(
        columns={f"{name}_found": name for name in ("canonical", "redirect_to", "parent")}
    )
    linked = pages[(pages["inlinks"] > 0) | ((pages["status"] == 200) & ~pages["noindex"])]
    assert set(linked.index) <= set(found.index), "all that a link or the sitemap names"
    closed = both["case"] == "closed"
    assert both.loc[closed, "status_found"].isna().all(), "robots.txt is kept to"
    both = both[~closed]
    assert (both["status"] == both["status_found"]).all()
    alive = both[both["status"] == 200]
    for name in ("title", "h1", "description", "words"):
        assert (alive[name] == alive[f"{name}_found"].fillna("")).all(), name
    assert (alive.index == alive["canonical"]).all()
    above = LIVE.rstrip("/") + alive["path"].str.replace(r"[^/]+/$", "", regex=True)
    assert (above.where(alive["path"] != "/", "") == alive["parent"].fillna("")).all(), "breadcrumbs name the section"
    assert (alive["noindex"] == alive["noindex_found"].eq("noindex")).all()
    dated = alive[~alive["undated"]]
    assert (pd.to_datetime(dated["published"]) == pd.to_datetime(dated["published_found"])).all()
    moved = both[both["redirect_path"] != ""]
    assert (LIVE.rstrip("/") + moved["redirect_path"] == moved["redirect_to"]).all()
    assert both.loc[both["inlinks"] == 0, "inlinks_found"].eq(0).all(), "orphans"
    pd.testing.assert_frame_equal(found, again)
    assert f"({len(found) - closed.sum()} requests, 0 unchanged)" in told
    assert f"{closed.sum()}: blocked by robots.txt" in told
    listed = both["case"].eq("moved_step").sum()  # the sitemap says that they are older than the visit
    assert f"{len(alive) + listed} unchanged)" in unchanged
    links = pd.read_parquet(tmp_path / "crawl" / "links.parquet")
    assert set(links["place"]) == {"navigation", "main", "footer"}
    assert links["source"].str.startswith(LIVE).all()


def test_a_limit_is_gone_on_from_and_patterns_are_kept_to(tmp_path: Path) -> None:
    with serve.serving(build(60, 5)) as url:
        assert crawled(tmp_path / "a", url, "--limit", "20")["status"].notna().sum() == 20, "what robots.txt closes is not asked"
        assert crawled(tmp_path / "a", url, "--limit", "20")["status"].notna().sum() == 40, "the same command goes on"
        only = crawled(tmp_path / "b", url, "--include", "/rivers/*", "--exclude", "*burn/")
        near = crawled(tmp_path / "c", url, "--depth", "1")
    paths = only.index.str.removeprefix(url)
    assert set(paths) > {"", "rivers/"}
    assert all(path == "" or (path.startswith("rivers/") and not path.endswith("burn/")) for path in paths)
    assert near["depth"].dropna().max() <= 1


@pytest.mark.slow
def test_killed_at_any_moment_it_ends_the_same_and_asks_little_twice(tmp_path: Path) -> None:
    with serve.serving(build(120, 5)) as url:
        whole = crawled(tmp_path / "whole", url, "--as", LIVE)
        for wait in (0.9, 1.1, 1.3, 1.5, 1.7, 1.9, 2.1, 2.3, 2.5, 2.7):
            command = [sys.executable, "-m", "nibbet", "crawl", url, str(tmp_path / "cut"), "-q", "--rate", "40", "--as", LIVE]
            with subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as process:
                time.sleep(wait + 1.5)
                process.send_signal(signal.SIGKILL)
        pd.testing.assert_frame_equal(crawled(tmp_path / "cut", url, "--as", LIVE), whole)
    assert sorted(path.name for path in (tmp_path / "cut" / "crawl").iterdir() if not path.name.startswith(".frontier")) == [
        "links.parquet", "pages.parquet", "robots.txt", "sitemap.xml",
    ]  # fmt: skip


def test_servers_that_do_what_they_should_not_end_in_time_with_a_reason(tmp_path: Path) -> None:
    home = plain(b"<title>Home</title>" + "".join(f"<a href='{path}'>x</a>" for path in WAYS).encode())

    def answers(path: str, _: int) -> bytes:
        return home if path == "/" else WAYS[path][0] if path in WAYS else b"HTTP/1.1 404 No\r\nContent-Length: 0\r\n\r\n"

    begun = time.monotonic()
    with serving(answers) as (url, asked):
        crawled(tmp_path, url, "--limit", str(len(WAYS) + 1))
    assert time.monotonic() - begun < 200, "the machine may be slow; the endless take for ever"
    assert max(count for path, count in asked.items() if path in WAYS) <= 8
    frontier = Frontier(tmp_path / "crawl" / ".frontier.db")
    rows = {row[0].removeprefix(url.rstrip("/")): row for row in frontier.rows()}
    frontier.close()
    for path, (_, status, words) in WAYS.items():
        row = rows[path]
        assert row[3] == status, path
        assert words in row[4] or words in (unpacked(row[5]) or {}).get("title", ""), path


def test_private_networks_are_not_entered() -> None:
    public = ["93.184.215.14", "2606:2800:21f:cb07:6820:80da:af6b:8b2c"]
    private = "127.0.0.1 10.1.2.3 192.168.0.1 172.16.9.9 169.254.169.254 0.0.0.0 100.64.0.1 224.0.0.1 ::1 fe80::1%eth0 fc00::1 ::ffff:10.0.0.1 2002:7f00:1:: nonsense".split()  # fmt: skip
    assert all(map(is_public, public))
    assert not any(map(is_public, private))

    async def ask(*addresses: str) -> list[Answer]:
        async with Fetcher("https://93.184.215.14/") as fetcher:
            return [await fetcher.ask(address) for address in addresses]

    with serving(lambda path, _: plain(PAGE)) as (url, asked):
        port = url.rsplit(":", 1)[1]
        said = asyncio.run(ask(url, *(f"http://{host}:{port}" for host in ("localhost", "127.1", "0x7f.0.0.1", "2130706433", "[::1]"))))
    assert {answer.reason for answer in said} == {"leads into a private network"}
    assert not asked


def test_robots_are_obeyed_as_the_standard_has_it(tmp_path: Path) -> None:
    rules = Robots(
        "User-Agent: *\nDisallow: *.gif$\nDisallow: /example/\nAllow: /publications/\n\nUser-Agent: foobot\nDisallow: /\nAllow: /example/page.html\n\n"
        "User-Agent: Nibbet\nUser-Agent: quxbot\nDisallow: /shut/\nAllow: /shut/open\nCrawl-delay: 2\nSitemap: https://a.example/s.xml\n",
    )
    for path, allowed in {
        "/": True,
        "/shut/": False,
        "/shut/a": False,
        "/shut/open": True,
        "/shut/open/b": True,
        "/example/": True,
    }.items():
        assert rules.allows(f"https://a.example{path}") is allowed, path
    assert (rules.delay, rules.sitemaps) == (2.0, ["https://a.example/s.xml"])
    assert not Robots(None, "no connection").allows("https://a.example/"), "a server that fails closes all"
    for status, pages in ((b"404 No", 2), (b"403 No", 2), (b"500 Broken", 0)):
        answers = {"/robots.txt": b"HTTP/1.1 " + status + b"\r\nContent-Length: 0\r\nConnection: close\r\n\r\n", "/": plain(b"<a href='/x'>x</a>"), "/x": plain(PAGE)}  # fmt: skip
        with serving(lambda path, _, answers=answers: answers.get(path, answers["/robots.txt"])) as (url, asked):
            done = main(["crawl", url, str(tmp_path / status.decode()[:3]), "-q"])
        assert sum(asked[path] for path in ("/", "/x")) == pages
        assert done == (0 if pages else 2)


def test_busy_and_slow_servers_are_asked_more_slowly(tmp_path: Path) -> None:
    busy = b"HTTP/1.1 429 Slow\r\nRetry-After: 1\r\nContent-Length: 0\r\nConnection: close\r\n\r\n"
    none = b"HTTP/1.1 404 No\r\nContent-Length: 0\r\nConnection: close\r\n\r\n"
    with serving(lambda path, count: none if path in ("/robots.txt", "/sitemap.xml") else busy if count == 1 else plain(PAGE)) as (
        url,
        asked,
    ):
        begun = time.monotonic()
        assert crawled(tmp_path, url)["status"].tolist() == [200]
        assert time.monotonic() - begun > 1
    assert asked["/"] == 2
    assert retry_after("120") == 120
    assert retry_after("Fri, 01 Jan 2038 00:00:00 GMT") == 600
    assert retry_after("soon") is None

    async def pace() -> tuple[float, float, float]:
        one = Pace(10.0)
        for seconds in [0.2] * 25:
            one.answered(Answer(200, {}, seconds=seconds))
        usual = one.interval
        for seconds in [4.0] * 20:
            one.answered(Answer(200, {}, seconds=seconds))
        slow = one.interval
        one.answered(Answer(503, {"retry-after": "0"}))
        for seconds in [0.2] * 200:
            one.answered(Answer(200, {}, seconds=seconds))
        return usual, slow, one.interval

    usual, slow, after = asyncio.run(pace())
    assert usual == after == 0.1
    assert slow > 5 * usual


def test_traps_are_cut_and_told(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    def answers(path: str, _: int) -> bytes:
        if path == "/":
            links = ["/day/1", "/a/a/a/a/b", "/s?sid=4f", *(f"/list?sort={n}" for n in range(230))]
            return plain("".join(f"<a href='{one}'>x</a>" for one in links).encode())
        if path.startswith("/day/"):
            return plain(f"<title>Day</title><a href='/day/{int(path[5:]) + 1}'>next</a>".encode())
        return plain(PAGE) if path.startswith("/list") else b"HTTP/1.1 404 No\r\nContent-Length: 0\r\nConnection: close\r\n\r\n"

    with serving(answers) as (url, asked):
        assert main(["crawl", url, str(tmp_path), "-q"]) == 0
    told = capsys.readouterr().out
    assert 200 <= sum(path.startswith("/day/") for path in asked) <= 203
    assert sum(path.startswith("/list") for path in asked) == 200
    for reason in (
        "one of a series without end",
        "30: one of too many versions",
        "a session in its address",
        "an address that grows without end",
    ):
        assert reason in told


def test_what_a_page_says_of_itself() -> None:
    page = read_markup(
        b"""<html lang=en-GB><title> A&amp;B </title><meta name=Description content="Said."><meta name=robots content="NOINDEX,follow"><base href=/x/>
        <link rel=canonical href=/a/><link rel=alternate hreflang=de href=/de/><script type=application/ld+json>{"@graph":[{"@type":["Article"],"datePublished":"2024-03-02T1"}]}</script>
        <nav>Menu <a href=/>Home</a></nav><main><h1>Head</h1><p>Two <b>words</b><style>no</style> <a href="b?q=1#f" rel=nofollow><img alt="A boat"></a></p></main>
        <div role=contentinfo><a href="mailto:a@b">m</a><a href=//other.example/c>Other</a></div>""",
        "https://a.example/y/",
    )  # fmt: skip
    assert (page.title, page.description, page.h1, page.language) == ("A&B", "Said.", "Head", "en-gb")
    assert page.robots == "noindex,follow"
    assert (page.canonical, page.alternates, str(page.published)) == (
        "https://a.example/a/",
        (("de", "https://a.example/de/"),),
        "2024-03-02",
    )
    assert (page.text, page.words) == ("Head Two words", 3)
    assert [(link.target, link.anchor, link.rel, link.place) for link in page.links] == [
        ("https://a.example/", "Home", "", "navigation"), ("https://a.example/x/b?q=1", "A boat", "nofollow", "main"), ("https://other.example/c", "Other", "", "footer"),
    ]  # fmt: skip
    assert decoded("Grüße".encode("cp1252")) == "Grüße"
    assert decoded("Grüße".encode("utf-16")) == "Grüße"


@pytest.mark.parametrize(
    "trail",
    [
        '<script type="application/ld+json">{"@type":"BreadcrumbList","itemListElement":[{"item":"/"},{"item":{"@id":"/birds"}},{"item":"/owl"}]}</script>',
        '<nav aria-label="Breadcrumb"><a href="/">Home</a> <a href="/birds">Birds</a> Owl</nav>',
        '<ol itemtype="https://schema.org/BreadcrumbList"><li><a href="/">Home</a><li><a href="birds">Birds</a><li><a href="/owl/">Owl</a></ol>',
    ],
)
def test_breadcrumbs_name_the_page_above(trail: str) -> None:
    assert read_markup(f"<title>Owl</title>{trail}".encode(), "https://a.example/owl").parent == "https://a.example/birds"


def test_broken_breadcrumbs_name_nothing() -> None:
    for told in ('{"@type":"BreadcrumbList","itemListElement":[1,{"item":null},{"item":{"@id":7}}]}', '{"@type":"BreadcrumbList"}', "{"):
        assert read_markup(f'<script type="application/ld+json">{told}</script>'.encode(), "https://a.example/owl").parent == ""


def test_sitemaps_of_every_form_and_hostile_ones() -> None:
    import gzip

    entries = b"<urlset xmlns='http://www.sitemaps.org/schemas/sitemap/0.9'><url><loc> https://a.example/ </loc><lastmod>2026-01-02T03:04</lastmod></url></urlset>"
    assert sitemap_entries(entries) == sitemap_entries(gzip.compress(entries)) == ([("https://a.example/", "2026-01-02")], [])
    assert sitemap_entries(b"<sitemapindex><sitemap><loc>https://a.example/s.xml</loc></sitemap></sitemapindex>") == (
        [],
        ["https://a.example/s.xml"],
    )
    assert sitemap_entries(b"https://a.example/\nhttps://a.example/b\n")[0] == [("https://a.example/", ""), ("https://a.example/b", "")]
    laughs = b"<!DOCTYPE x [<!ENTITY a 'ha'><!ENTITY b '&a;&a;'>]><urlset><url><loc>&b;</loc></url></urlset>"
    for hostile in (laughs, b"<urlset>", b"\x1f\x8bnothing", b"", gzip.compress(bytes(100_000_000))):
        assert sitemap_entries(hostile) == ([], [])


@pytest.mark.parametrize("url", ["", "ftp://a.example/", "https://", "http://[bad/"])
def test_what_is_no_home_is_refused(url: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["crawl", url, str(tmp_path), "-q"]) == 2
    assert "is no address of a site" in capsys.readouterr().err
    assert not os.listdir(tmp_path)


@pytest.mark.parametrize("by", ["nibbet", pytest.param("wget", marks=pytest.mark.slow)])
def test_archives_are_read_as_inventories(tmp_path: Path, by: str) -> None:
    if by == "wget" and shutil.which("wget") is None:
        pytest.skip("wget is not there")
    search = "date,page,query,clicks,impressions,position\n2026-10-01,/rivers/,rivers,3,40,4.2\n"
    (tmp_path / "search.csv").write_text(search)
    with serve.serving(build(60, 5)) as url:
        true = crawled(tmp_path / "other", url, "--archive")
        if by == "wget":
            command = [
                "wget",
                "-q",
                "-r",
                "-l",
                "9",
                f"--warc-file={tmp_path / 'pages'}",
                "-P",
                str(tmp_path / "w"),
                url,
            ]
            subprocess.run(command, check=False)
            shutil.rmtree(tmp_path / "w")
        else:
            shutil.copy(tmp_path / "other" / "crawl" / "pages.warc.gz", tmp_path)
    source = '[[source]]\nkind = "{}"\nfiles = "{}"\n'
    rows = (source.format(*one) for one in (("search", "search.csv"), ("crawl", "pages.warc.gz"), ("links", "pages.warc.gz")))
    (tmp_path / "nibbet.toml").write_text(f'[site]\nhome = "{url}"\n' + "".join(rows))
    with nibbet.open_site(tmp_path) as site:
        pages = site.ledger().set_index("page")
    alive = true[(true["status"] == 200) & (true["depth"].notna())]
    found = pages.reindex(alive.index)
    for name in ("status", "title", "words", "inlinks"):
        assert (found[name] == alive[name]).all(), name


def test_damaged_archives_are_refused(tmp_path: Path) -> None:
    from nibbet.errors import SourceError
    from nibbet.sources.archives import archive_tables

    for body in (b"", b"nothing of the kind\r\n\r\n", b"WARC/1.0\r\nWARC-Type: response\r\nContent-Length: 900\r\n\r\nHTTP/1.1 200 OK\r\n"):
        (tmp_path / "x.warc").write_bytes(body)
        with pytest.raises(SourceError, match="archive"):
            archive_tables(tmp_path / "x.warc", "x.warc", tmp_path)


class Changing:
    """A site of which each path has a version; a version of 0 is gone."""

    def __init__(self) -> None:
        self.versions = {"/": 1, "/a": 1, "/b": 1, "/listed": 1}
        self.asked: list[str] = []

    def answer(self, path: str, head: bytes) -> bytes:
        self.asked.append(path)
        if path == "/sitemap.xml":
            entries = "".join(
                f"<url><loc>{self.url}{one}</loc><lastmod>2026-01-0{self.versions['/listed']}</lastmod></url>" for one in ("listed",)
            )
            return plain(f"<urlset>{entries}</urlset>".encode(), b"HTTP/1.1 200 OK\r\nContent-Type: application/xml\r\n")
        version = self.versions.get(path, 0)
        if not version:
            return b"HTTP/1.1 404 No\r\nContent-Length: 0\r\nConnection: close\r\n\r\n"
        mark = f'"{path}-{version}"'.encode()
        if b"If-None-Match: " + mark in head:
            return b"HTTP/1.1 304 Same\r\nETag: " + mark + b"\r\nConnection: close\r\n\r\n"
        links = "".join(f"<a href='{one}'>x</a>" for one in self.versions if one != "/listed") if path == "/" else ""
        return plain(f"<title>{path} {version}</title>{links}".encode(), OK + b"ETag: " + mark + b"\r\n")


def test_another_run_asks_only_for_what_has_changed(tmp_path: Path) -> None:
    one = Changing()
    with serving(lambda path, _, head=b"": one.answer(path, head), heads=True) as (url, _):
        one.url = url
        first = crawled(tmp_path, url)
        assert first["title"].dropna().tolist() == ["/ 1", "/a 1", "/b 1", "/listed 1"]
        assert first.loc[f"{url}listed", "in_sitemap"] == "yes"
        one.asked.clear()
        same = crawled(tmp_path, url)
        pd.testing.assert_frame_equal(same, first)
        assert "/listed" not in one.asked, "the sitemap says that it is older than the last visit"
        one.versions |= {"/": 2, "/a": 2, "/b": 0, "/new": 1}
        now = crawled(tmp_path, url)
        one.asked.clear()
        crawled(tmp_path, url, "--fresh")
    assert now.loc[[url, f"{url}a", f"{url}new"], "title"].tolist() == ["/ 2", "/a 2", "/new 1"]
    assert now.loc[f"{url}b", "status"] == 404, "it is still linked"
    assert "/listed" in one.asked, "asked anew when told to"


def test_headers_count_as_much_as_tags(tmp_path: Path) -> None:
    html = b"HTTP/1.1 200 OK\r\nContent-Type: text/html\r\n"
    answers = {
        "/": plain(b"<title>Home</title>" + b"".join(b"<a href='/%s'>x</a>" % one for one in (b"kept", b"for-one", b"for-all", b"copy", b"shut", b"quiet", b"tagged", b"paper.pdf", b"pic.png"))),
        "/robots.txt": plain(b"User-agent: *\nDisallow: /shut\n", b"HTTP/1.1 200 OK\r\nContent-Type: text/plain\r\n"),
        "/kept": plain(PAGE, html + b"X-Robots-Tag: noindex, nofollow\r\n"),
        "/for-one": plain(PAGE, html + b"X-Robots-Tag: otherbot: noindex, nofollow\r\nX-Robots-Tag: max-snippet: 50\r\n"),
        "/for-all": plain(PAGE, html + b"X-Robots-Tag: otherbot: nofollow\r\nX-Robots-Tag: noindex\r\n"),
        "/copy": plain(PAGE, html + b'Link: </kept>; rel="canonical"\r\n'),
        "/quiet": plain(b"<title>Quiet</title><meta name=robots content=nofollow><a href='/hidden'>x</a><a href='/named' rel=nofollow>y</a>"),
        "/tagged": plain(b"<meta name=OtherBot content='noindex, nofollow'><meta name=description content='noindex, told'>"),
        "/paper.pdf": plain(b"%PDF" * 1000, b"HTTP/1.1 200 OK\r\nContent-Type: application/pdf\r\n"),
    }  # fmt: skip
    none = b"HTTP/1.1 404 No\r\nContent-Length: 0\r\nConnection: close\r\n\r\n"
    with serving(lambda path, _: answers.get(path, none)) as (url, asked):
        pages = crawled(tmp_path, url)
    assert pages.loc[f"{url}kept", "noindex"] == "noindex"
    assert pages.loc[f"{url}for-one", "noindex"] == "index", "what is said to one robot holds for that one"
    assert pages.loc[f"{url}for-all", "noindex"] == "noindex"
    assert pages.loc[f"{url}tagged", "noindex"] == "index"
    assert pages["noindex_for"].dropna().to_dict() == {f"{url}for-one": "otherbot", f"{url}tagged": "otherbot"}
    assert pages.loc[f"{url}copy", "canonical"] == f"{url}kept"
    assert pd.isna(pages.loc[f"{url}shut", "status"])
    assert pages.loc[f"{url}paper.pdf", "media"] == "application/pdf"
    assert pd.isna(pages.loc[f"{url}paper.pdf", "words"])
    assert not {"/shut", "/hidden", "/named", "/pic.png"} & set(asked), "closed, not to be followed, no page"
    assert (tmp_path / "crawl" / "robots.txt").read_text() == "User-agent: *\nDisallow: /shut\n"
    links = pd.read_parquet(tmp_path / "crawl" / "links.parquet")
    assert links.set_index("target").loc[f"{url}named", "follow"] == "no"


def test_what_cannot_be_reached_is_told(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    (tmp_path / "crawl").mkdir()
    (tmp_path / "crawl" / "pages.parquet").write_bytes(b"the last inventory")
    assert main(["crawl", "http://127.0.0.1:9/", str(tmp_path), "-q", "--rate", "50"]) == 2
    fault = capsys.readouterr().err
    assert "nothing could be read" in fault
    assert len(fault.splitlines()) == 1
    assert (tmp_path / "crawl" / "pages.parquet").read_bytes() == b"the last inventory"
    for name, make in (("old", lambda path: sqlite3.connect(path).executescript("CREATE TABLE addresses (x); CREATE TABLE facts (y)").close()), ("bytes", lambda path: path.write_bytes(b"no base" * 999))):  # fmt: skip
        (tmp_path / name / "crawl").mkdir(parents=True)
        make(tmp_path / name / "crawl" / ".frontier.db")
        assert main(["crawl", "http://127.0.0.1:9/", str(tmp_path / name), "-q", "--rate", "50"]) == 2
        fault = capsys.readouterr().err
        assert ("nothing could be read" if name == "old" else "remove that file") in fault
        assert len(fault.splitlines()) == 1
    (tmp_path / "other").mkdir()
    (tmp_path / "other" / "crawl").write_text("a file in the way")
    assert main(["crawl", "http://127.0.0.1:9/", str(tmp_path / "other"), "-q"]) == 2
    assert "cannot be kept there" in capsys.readouterr().err


def test_an_outage_stops_the_crawl_and_costs_nothing(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    down = False

    def answers(path: str, _: int) -> bytes:
        if path == "/robots.txt":
            return b"HTTP/1.1 404 No\r\nContent-Length: 0\r\nConnection: close\r\n\r\n"
        if down and path != "/":
            return b""
        return plain(f"<title>{path}</title>".encode() + b"".join(b"<a href='/p%d'>x</a>" % n for n in range(60)))

    with serving(answers) as (url, _):
        whole = crawled(tmp_path, url)
        down = True
        assert main(["crawl", url, str(tmp_path), "-q", "--rate", "200", "--fresh"]) == 2
        assert "no longer answers" in capsys.readouterr().err
        pd.testing.assert_frame_equal(pd.read_parquet(tmp_path / "crawl" / "pages.parquet").set_index("page"), whole)
        down = False
        pd.testing.assert_frame_equal(crawled(tmp_path, url), whole)


def test_further_hosts_of_the_site_are_crawled_from_their_own_homes(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    none = plain(b"", b"HTTP/1.1 404 No\r\n")
    shop = {
        "/": plain(b"<title>Shop</title><main><a href='/tents'>Tents</a></main>"), "/tents": plain(PAGE), "/alone": plain(PAGE), "/closed/a": plain(PAGE),
        "/robots.txt": plain(b"User-agent: *\nDisallow: /closed/\n"),
    }  # fmt: skip
    up = True
    with serving(lambda path, _: shop.get(path, none) if up or path == "/robots.txt" else b"") as (other, asked):
        other = other.replace("127.0.0.1", "localhost")
        shop["/sitemap.xml"] = plain(f"<urlset><url><loc>{other}alone</loc></url><url><loc>{other}closed/a</loc></url></urlset>".encode())
        links = b"".join(b"<a href='%sp%d'>x</a>" % (other.encode(), n) for n in range(40))
        with serving(lambda path, _: plain(b"<title>Home</title><main>" + links + b"</main>") if path == "/" else none) as (url, _):
            (tmp_path / "search.csv").write_text("date,page,clicks,impressions,position\n2026-10-31,/,3,40,2\n")
            (tmp_path / "nibbet.toml").write_text(
                f'[site]\nhome = "{url}"\nmore_hosts = ["{other[7:-1]}"]\n[[source]]\nkind = "search"\nfiles = "search.csv"\n'
            )
            found = crawled(tmp_path, url)
            up = False
            assert main(["crawl", url, str(tmp_path), "-q", "--rate", "500", "--fresh"]) == 2
            assert "Where that host is no longer in use, take it out of more_hosts." in capsys.readouterr().err
    assert found.loc[[url, other, f"{other}tents", f"{other}alone"], "status"].eq(200).all()
    assert found.loc[f"{other}tents", "depth"] == 1
    assert found["in_sitemap"].eq("yes").sum() == 2
    assert not asked["/closed/a"]


def test_a_page_left_out_and_taken_in_again_is_asked_anew(tmp_path: Path) -> None:
    one = Changing()
    with serving(lambda path, _, head=b"": one.answer(path, head), heads=True) as (url, _):
        one.url = url
        whole = crawled(tmp_path, url)
        assert f"{url}a" not in crawled(tmp_path, url, "--exclude", "/a").index
        pd.testing.assert_frame_equal(crawled(tmp_path, url), whole)


def test_a_home_that_has_moved_is_named(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    moved = b"HTTP/1.1 301 Moved\r\nLocation: https://new.tarnbrook.example/\r\nContent-Length: 0\r\nConnection: close\r\n\r\n"
    none = b"HTTP/1.1 404 No\r\nContent-Length: 0\r\nConnection: close\r\n\r\n"
    with serving(lambda path, _: moved if path == "/" else none) as (url, _):
        assert main(["crawl", url, str(tmp_path), "-q"]) == 2
    assert "leads to https://new.tarnbrook.example/, another site" in capsys.readouterr().err


def test_links_to_other_sites_are_asked_for_once_and_told_among_broken_links(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    away = {
        "/robots.txt": plain(b"User-agent: *\nDisallow: /closed/\n"), "/good": plain(PAGE), "/gone": plain(b"", b"HTTP/1.1 404 No\r\n"),
        "/moved": moved(b"/good"), "/for-now": moved(b"/good", b"302 Found"), "/shy": plain(b"", b"HTTP/1.1 403 No\r\n"), "/circle": moved(b"/circle"),
        "/to-nothing": moved(b"/gone"), "/inwards": moved(b"http://169.254.169.254/"), "/to-closed": moved(b"/closed/b"), "/closed/a": plain(PAGE), "/dead": b"",
    }  # fmt: skip
    true = {"/good": 200, "/gone": 404, "/moved": 301, "/for-now": 200, "/shy": 403, "/circle": 301, "/to-nothing": 404, "/inwards": None, "/to-closed": None, "/closed/a": None, "/dead": None}  # fmt: skip
    (tmp_path / "search.csv").write_text(
        "date,page,query,clicks,impressions,position\n2026-10-31,/,tents,3,40,2\n2026-10-31,/b,poles,1,20,5\n"
    )
    with serving(lambda path, _: away.get(path, away["/gone"])) as (other, asked):
        other = other.replace("127.0.0.1", "localhost").rstrip("/")
        page = ("<title>T</title><main>" + "".join(f'<a href="{other}{path}">see {path}</a>' for path in true) + "<a href='/b'>b</a></main>").encode()  # fmt: skip
        with serving(lambda path, _: plain(b"", b"HTTP/1.1 404 No\r\n") if path == "/robots.txt" else plain(page)) as (url, _):
            crawled(tmp_path, url)
            assert not asked, "only where it is asked for"
            capsys.readouterr()
            crawled(tmp_path, url, "--outside")
            told, first = capsys.readouterr().out, dict(asked)
            crawled(tmp_path, url, "--outside")
        assert dict(asked) | {"/robots.txt": 1} == first | {"/robots.txt": 1}, "what was asked of late is not asked again"
    assert "Other sites: 11 addresses linked, 3 fail, 2 have moved, 4 keep robots out." in told
    assert first["/good"] <= 6
    assert first["/moved"] == first["/for-now"] == 1
    assert not {"/closed/a", "/closed/b"} & set(first)
    links = pd.read_parquet(tmp_path / "crawl" / "links.parquet")
    links["path"] = links["target"].str.removeprefix(other)
    found = links.drop_duplicates("path").set_index("path")["status"].reindex(list(true)).astype(object)
    assert found.where(found.notna(), None).to_dict() == true
    assert links.loc[links["path"] == "/moved", "redirect_to"].eq(f"{other}/good").all()
    assert links.loc[links["target"] == f"{url}b", "status"].eq(200).all(), "of pages of the site too"
    sources = "".join(f'[[source]]\nkind = "{kind}"\nfiles = "{file}"\n' for kind, file in {"search": "search.csv", "crawl": "crawl/pages.parquet", "links": "crawl/links.parquet"}.items())  # fmt: skip
    (tmp_path / "nibbet.toml").write_text(f'[site]\nhome = "{url}"\n{sources}')
    with nibbet.open_site(tmp_path) as site:
        broken = site.broken_links()
    assert set(broken["target"].str.removeprefix(other)) == {"/gone", "/moved", "/to-nothing", "/circle", "/dead"}, (
        "who keeps robots out is not broken"
    )
    assert broken.set_index("target").loc[f"{other}/moved", "to"].eq(f"{other}/good").all()
    assert broken["because"].str.startswith(other).all()
    assert broken["because"].str.contains("does not answer (broken answer); link to another source", regex=False).sum() == 2


def test_where_no_other_site_can_be_reached_no_link_is_blamed(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    page = "<title>T</title>" + "".join(f'<a href="http://no-{n}.invalid/">x</a>' for n in range(4))
    with serving(lambda path, _: plain(page.encode())) as (url, _):
        crawled(tmp_path, url, "--outside")
    assert "None of the other sites could be reached from here" in capsys.readouterr().out
    assert pd.read_parquet(tmp_path / "crawl" / "links.parquet")["status"].isna().all()


def test_a_site_that_lost_its_links_to_other_sites_is_written_all_the_same(tmp_path: Path) -> None:
    links = b"<a href='http://127.0.0.2:9/'>x</a>"
    with serving(lambda path, _: plain(b"<title>T</title><main>" + links + b"</main>")) as (url, _):
        crawled(tmp_path, url, "--outside")
        links = b""
        crawled(tmp_path, url, "--fresh")
    assert pd.read_parquet(tmp_path / "crawl" / "links.parquet").empty


#: the reading process, in which one page ends it
DEADLY = """
import os
from nibbet.crawl import crawler, fetch, manners, reading
def deadly(address, status, headers, body):
    if body == b"deadly":
        os._exit(9)
    return reading.Read(b"", b"", [address] if body else [])
reading.read = deadly
reading.serve()
"""


def test_a_page_that_ends_the_reading_process_costs_only_itself(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(reading, "OTHER", DEADLY)
    monkeypatch.setattr(reading, "FEW", 1)
    monkeypatch.setattr(reading, "read", lambda address, status, headers, body: reading.Read(b"", b"", [address] if body else []))

    async def crawl() -> list[reading.Read]:
        async with reading.Reader() as reader:
            await reader.read("https://a.example/", Answer(200, {}, b"the first"))  # from then on another process reads
            bodies = [b"one", b"deadly", b"two", b"three"]
            return await asyncio.gather(*(reader.read(f"https://a.example/{n}", Answer(200, {}, body)) for n, body in enumerate(bodies)))

    assert [one.follow for one in asyncio.run(crawl())] == [[f"https://a.example/{n}"] if n != 1 else [] for n in range(4)]


def test_the_inventory_of_an_earlier_day_stays_beside_the_newest(tmp_path: Path) -> None:
    from nibbet.sources.inventories import keep_earlier

    (tmp_path / "pages.parquet").write_bytes(b"of some other program")
    keep_earlier(tmp_path, date(2026, 11, 2))
    pd.DataFrame({"page": ["https://tarnbrook.example/"], "title": ["Old"], "text": ["long"], "crawled": [date(2026, 5, 1)]}).to_parquet(
        tmp_path / "pages.parquet"
    )
    keep_earlier(tmp_path, date(2026, 5, 1))
    assert [path.name for path in tmp_path.iterdir()] == ["pages.parquet"], "one of the same day is replaced"
    keep_earlier(tmp_path, date(2026, 11, 2))
    assert pd.read_parquet(tmp_path / "pages-2026-05-01.parquet").columns.tolist() == ["page", "title", "crawled"]
    assert (tmp_path / "pages.parquet").exists()
