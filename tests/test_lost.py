"""What others would lose: hubs by links, addresses that fail though they earned, people who ask in vain, and names that are no pages."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import nibbet
from nibbet.config import make_config
from nibbet.core.findings import is_hub
from nibbet.core.notices import are_notices
from nibbet.core.thresholds import Thresholds
from nibbet.render.briefs import brief_text

HOME = "https://tarnbrook.example"
DAYS = pd.date_range("2025-07-01", "2026-10-31")
PERSON = "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0"
#: path, title, clicks a day, status; addresses without end slash, flat
PAGES = [
    ("/", "Tarnbrook", 20, 200),
    ("/otter", "All about the otter", 0, 200),
    ("/otter-food", "Otter food", 4, 200),
    ("/otter-tracks", "Otter tracks", 4, 200),
    ("/otter-photos", "", 3, 404),
    ("/heron-food", "Heron food and diet", 5, 200),
    ("/heron-diet", "", 2, 404),
    ("/old-news", "Raft day of the year before last", 0, 200),
    ("/small-print", "Terms and conditions | Tarnbrook", 0, 200),
    ("/round", "", 0, 301),
    ("/about", "", 0, 301),
]


@pytest.fixture(scope="module")
def site(tmp_path_factory: pytest.TempPathFactory) -> nibbet.Site:
    """A site whose hub is only told by links; two addresses fail since June, though they were visited."""
    rng, rows = np.random.default_rng(4), []
    for path, _, clicks, status in PAGES:
        shown = DAYS[DAYS < "2026-06-01"] if status == 404 else DAYS
        words = path.strip("/").replace("-", " ") or "tarnbrook"
        for query in (words, f"{words} guide", f"best {words}"):
            if clicks:
                rows.append(pd.DataFrame({"date": shown, "page": HOME + path, "query": query, "impressions": 30,
                                          "clicks": rng.poisson(clicks / 3, len(shown)), "position": 3.0}))  # fmt: skip
    crawl = pd.DataFrame(PAGES, columns=["page", "title", "clicks", "status"]).assign(
        page=lambda t: HOME + t["page"],
        published="2023-01-01",
        outlinks=90,  # of the menus, on every page
        redirect_to=lambda t: t["page"].map({HOME + "/round": HOME + "/about", HOME + "/about": HOME + "/round"}),
    )
    paths = [path for path, *_ in PAGES]
    links = [("/", "/otter"), ("/", "/heron-food"), ("/", "/old-news")] + [("/otter", path) for path in paths if path.startswith("/otter-")]
    links += [("/old-news", "/otter-food"), ("/otter", "/parted"), ("/otter", "/back-again"), ("/otter", "/löst")]
    log = [f'1.2.3.4 - - [05/Sep/2026:10:00:{n:02d} +0000] "GET /{path} HTTP/1.1" 404 10 "-" "{PERSON}"'
           for path, count in (("food/otter", 40), ("qwxyz", 30), ("rare", 3), ("parted", 2), ("l%c3%b6st", 2), ("back-again", 9)) for n in range(count)]  # fmt: skip
    log += [log[-1].replace("05/Sep", "09/Sep").replace(" 404 ", " 200 ")]
    root = tmp_path_factory.mktemp("lost")
    Path(root / "access.log").write_text("\n".join(log) + "\n", "utf-8")
    sitemap = "".join(f"<url><loc>{HOME}{path}</loc><lastmod>2023-01-01</lastmod></url>" for path in ("/otter", "/never-made"))
    Path(root / "sitemap.xml").write_text(f'<urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9">{sitemap}</urlset>', "utf-8")
    visits = pd.DataFrame({"date": DAYS, "page": HOME + "/heron-food", "channel": "organic", "sessions": 3, "engaged_sessions": 2})
    settings = {
        "site": {"home": HOME + "/"},
        "source": [{"kind": "hits", "files": "access.log"}, {"kind": "sitemap", "files": "sitemap.xml"}],
    }
    frames = {
        "search": pd.concat(rows),
        "landings": visits,
        "crawl": crawl.drop(columns="clicks"),
        "links": pd.DataFrame(links, columns=["source", "target"]).map(HOME.__add__),
        "demand": pd.DataFrame({"query": "otter photos", "month": pd.date_range("2025-07-01", "2026-10-01", freq="MS"), "volume": 900}),
        "backlinks": pd.DataFrame({"from_url": ["https://away.example/a"], "page": [HOME + "/heron-food"]}),
    }
    return nibbet.Site(config=make_config(settings), root=root, **frames)


def test_the_only_way_to_pages_that_earn_stays(site: nibbet.Site) -> None:
    pages = site.pages().set_index("page")
    assert pages.loc[HOME + "/otter", "verdict"] == "keep", "nobody visits it, but it alone leads to pages that earn"
    assert pages.loc[HOME + "/old-news", "verdict"] == "prune", "it links to what another page links to"
    ways = site.why(HOME + "/otter").set_index("measure").loc["only_way_to"]
    assert set(ways["value"]) == {1.0}
    assert not ways["passed"].any()


TRAILS = {
    "Übergeordnete Seite": [HOME + path for path in ("/", "/birds", "/birds", "/birds", "/")],
    "Breadcrumbs": ["Start > Birds", "Start > Birds > Owl", "Start > Birds > Heron", "Start > Birds > Kingfisher", "Start > Raft day"],
    "Fil d'Ariane": ["Accueil / ", "Accueil / Birds", "Accueil / Birds", "Accueil / Birds", "Accueil / "],
}


def verdicts_below(pages: list[str], **crawled: list[str]) -> pd.DataFrame:
    """The verdicts of pages of which the second to fourth are found and visited."""
    rows = [
        pd.DataFrame({"date": DAYS, "page": HOME + path, "query": path.rpartition("/")[2], "clicks": 2, "impressions": 30, "position": 3.0})
        for path in pages[1:4]
    ]
    names = [path.rpartition("/")[2].replace("-", " ").capitalize() for path in pages]
    crawl = pd.DataFrame({"page": pages, **crawled, "title": names}).assign(status=200, published="2022-01-01", outlinks=0)
    crawl["page"] = HOME + crawl["page"]
    frames = {
        "search": pd.concat(rows),
        "landings": pd.DataFrame({"date": DAYS, "page": HOME + pages[1], "channel": "organic", "sessions": 2}),
        "crawl": crawl,
        "demand": pd.DataFrame({"query": "otter photos", "month": pd.date_range("2025-07-01", "2026-10-01", freq="MS"), "volume": 900}),
        "backlinks": pd.DataFrame({"from_url": ["https://away.example/a"], "page": [HOME + pages[1]]}),
    }
    with nibbet.Site(config=make_config({"site": {"home": HOME + "/"}}), **frames) as site:
        return site.pages().set_index("page")[["verdict", "because"]].rename(index=lambda page: page.removeprefix(HOME))


@pytest.mark.parametrize("header", TRAILS)
def test_breadcrumbs_make_a_hub_where_addresses_are_flat(header: str) -> None:
    verdicts = verdicts_below(["/birds", "/owl", "/heron", "/kingfisher", "/raft-day"], **{header: TRAILS[header]})["verdict"]
    assert (verdicts["/birds"], verdicts["/raft-day"]) == ("keep", "prune")


@pytest.mark.parametrize(("outlinks", "hubs"), [([8] * 9 + [30], 1), ([8] * 9 + [29], 0), ([90] * 9 + [110], 1), ([90] * 9 + [104], 0)])
def test_links_that_stand_on_every_page_make_no_hub(outlinks: list[int], hubs: int) -> None:
    pages = pd.DataFrame({"outlinks": pd.array(outlinks, dtype="Int64"), "gone": False, "children": 0, "only_way": 0, "main_way": 0})
    assert is_hub(pages, Thresholds()).sum() == hubs  # type: ignore[call-arg]


def test_folders_without_a_page_do_not_hide_the_hub_above() -> None:
    found = verdicts_below(["/birds", "/birds/2021/03/owl", "/birds/2021/04/heron", "/birds/2022/05/kingfisher", "/raft-day"])
    assert found["verdict"][["/birds", "/raft-day"]].tolist() == ["keep", "prune"]
    assert found["because"]["/birds"] == "0 clicks; 3 pages lie below it."


def test_pages_of_a_list_stay_and_articles_with_a_number_do_not() -> None:
    pages = ["/birds", "/birds?page=2", "/birds?page=3", "/birds/page/4", "/birds/page/5/", "/fish?page=2", "/raft-day-2", "/?p=3"]
    found = verdicts_below(pages)
    assert found["verdict"].drop(pages[1:4]).to_dict() == {
        "/birds": "keep", "/birds/page/5/": "keep", "/fish?page=2": "prune", "/raft-day-2": "prune", "/?p=3": "prune"
    }  # fmt: skip
    assert found["because"]["/birds/page/5/"] == "0 clicks; it is a page of a list."


def test_what_only_a_sitemap_names_has_no_verdict(site: nibbet.Site) -> None:
    pages = site.pages().set_index("page")
    assert pd.isna(pages.loc[HOME + "/never-made", "verdict"])
    assert pages.loc[HOME + "/heron-food", "verdict"] in ("keep", "refresh")


def test_an_address_that_fails_and_earned_is_put_back_or_led_to_the_same_question(site: nibbet.Site) -> None:
    repairs, redirects = site.repairs().set_index(["page", "repair"]), site.redirects().set_index("from")
    said = repairs.loc[(HOME + "/otter-photos", "restore"), "because"]
    assert "Answers 404, but earned: " in said
    assert "clicks a month less than a year earlier; no page covers it, so restore it." in said
    assert redirects.loc[HOME + "/otter-photos", ["to", "status"]].tolist() == [HOME + "/otter", 301], "never a page on another question"
    assert redirects.loc[HOME + "/heron-diet", "to"] == HOME + "/heron-food", "it carries each of its words"
    assert (HOME + "/heron-diet", "restore") not in repairs.index
    assert not redirects["to"].isin(redirects.index).any(), "none leads to an address that leads on"
    topics = site.topics().set_index("topic")
    assert topics.loc["otter photos", ["page", "proposal"]].tolist() == [HOME + "/otter-photos", "restore"], "searched, though none is shown"
    text = site.briefs(brief_text).set_index("topic").loc["otter photos", "text"]
    assert "Restore /otter-photos. " in text
    assert "nan" not in text


def test_people_who_ask_in_vain_are_led_on(site: nibbet.Site) -> None:
    repairs, redirects = site.repairs().set_index("page"), site.redirects().set_index("from")
    assert repairs.loc[HOME + "/food/otter", "because"].startswith("Requested by people 40 times, but it fails")
    assert redirects.loc[HOME + "/food/otter", "to"] == HOME + "/otter-food"
    assert repairs.loc[HOME + "/qwxyz", "weight"] == 30
    assert HOME + "/qwxyz" not in redirects.index, "nothing tells what it was about"
    assert HOME + "/rare" not in repairs.index


def test_a_log_tells_that_an_unlisted_address_fails(site: nibbet.Site) -> None:
    links, pages = site.broken_links().set_index("target"), site.pages().set_index("page")
    assert links.loc["https://tarnbrook.example/parted", "status"] == 404
    assert links.loc["https://tarnbrook.example/löst", "status"] == 404, "an address is the same however its letters are written"
    assert (pages.loc[HOME + "/parted", "status"], bool(pages.loc[HOME + "/parted", "indexable"])) == (404, False)
    assert pd.isna(pages.loc[HOME + "/back-again", "status"]), "it was found again later"


def test_a_legal_notice_is_no_dead_page(site: nibbet.Site) -> None:
    page = site.pages().set_index("page").loc[HOME + "/small-print"]
    assert (page["verdict"], page["because"].rpartition("; ")[2]) == ("keep", "it is a legal notice, which stays.")
    paths = ["/de/datenschutz", "/x?id=3", "/プライバシーポリシー", "/%E5%88%A9%E7%94%A8%E8%A6%8F%E7%B4%84", "/legal.html", "/terms-of-trade"]
    titles = [None, "Política de privacidad - Tarnbrook", None, None, "", "How to read legal terms"]
    assert are_notices(pd.DataFrame({"path": paths, "title": titles})).tolist() == [True] * 5 + [False]


def test_redirects_in_a_circle_are_told_as_such(site: nibbet.Site) -> None:
    rows = site.redirects().set_index("from").loc[[HOME + "/round", HOME + "/about"]]
    assert (rows["status"].tolist(), set(rows["because"])) == ([410, 410], {"redirects in a circle"})
