"""Patterns of paths: those of the settings that protect, and those of robots.txt."""

from __future__ import annotations

import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st
from protego import Protego

import nibbet
from nibbet.core.ledger import matches, without_page
from nibbet.core.robots import closed_alone, closed_to, disallowed

HOME = "https://tarnbrook.example/"
RULES = ["agent", "rule", "pattern"]


@pytest.mark.parametrize(
    ("pattern", "paths", "others"),
    [
        ("/legal", ["/legal", "/legal/"], ["/legal/imprint/", "/illegal"]),
        ("/legal/*", ["/legal/", "/legal", "/legal/a/b"], ["/legally", "/x/legal/"]),
        ("legal/", ["/legal/"], ["/legal/x"]),
        ("/a[1]?x", ["/a[1]?x"], ["/a1", "/a1x"]),
        ("https://www.tarnbrook.example/terms/", ["/terms/", "/Terms"], ["/"]),
        ("/über uns/", ["/%C3%BCber%20uns/"], ["/uber-uns/"]),
        ("*/print", ["/a/print", "/print/"], ["/printer"]),
        ("/", ["/"], ["/a"]),
        ("/*", ["/", "/a", "/a/b/"], []),
    ],
)
def test_only_a_star_stands_for_anything(pattern: str, paths: list[str], others: list[str]) -> None:
    assert matches(pd.Series([*paths, *others]), [pattern]).tolist() == [True] * len(paths) + [False] * len(others)
    assert without_page(pd.Series(others, dtype="str"), [pattern]) == [pattern]


def test_a_page_meant_protected_stays_and_a_pattern_without_page_is_told() -> None:
    days = pd.date_range("2025-08-01", "2026-10-31")
    busy = pd.DataFrame({"date": days, "page": "/canoe/", "query": "canoe trip", "clicks": 9, "impressions": 90, "position": 2.0})
    poor = [
        {"date": days[9], "page": page, "query": "old", "clicks": 0, "impressions": 1, "position": 60.0}
        for page in ("/legal/", "/old-1/", "/old[1]/")
    ]
    landings = pd.DataFrame({"date": days, "page": "/canoe/", "channel": "organic", "sessions": 9, "conversions": 0})
    crawl = pd.DataFrame({"page": ["/canoe/", "/legal/", "/old-1/", "/old[1]/"], "status": 200, "published": pd.Timestamp("2019-01-01")})
    backlinks = pd.DataFrame({"source": ["https://fernhollow.example/"], "target": ["/canoe/"]})
    protect = {"pages": ["/legal", "/old[1]", "/imprint/*"]}
    site = nibbet.Site(
        HOME, search=pd.concat([busy, pd.DataFrame(poor)]), landings=landings, crawl=crawl, backlinks=backlinks, settings={"protect": protect}
    )  # fmt: skip
    verdict = site.pages().set_index("page")["verdict"].to_dict()
    assert verdict[HOME + "old-1/"] == "prune", "as it would be without protection"
    assert "prune" not in (verdict[HOME + "legal/"], verdict[HOME + "old[1]/"])
    notes = [note["text"] for note in site.account["notes"] if note["code"] == "pattern_without_page"]
    assert len(notes) == 1
    assert '"/imprint/*" matches no page' in notes[0]


PART = st.text("ab*/$", min_size=0, max_size=5)


@given(
    st.lists(st.tuples(st.sampled_from(["*", "finder", "other"]), st.sampled_from(["allow", "disallow"]), PART), max_size=6),
    st.text("ab/", max_size=6),
)
def test_robots_rules_read_as_a_well_known_parser_reads_them(rows: list[tuple[str, str, str]], rest: str) -> None:
    rows = [(agent, rule, "/" + pattern) for agent, rule, pattern in rows]
    text = "\n".join(f"User-agent: {agent}\n{rule}: {pattern}\n" for agent, rule, pattern in rows)
    path = "/" + rest
    ours = closed_to("Finder/2.1", pd.Series([path]), pd.DataFrame(rows, columns=RULES)).iloc[0]
    assert ours == (not Protego.parse(text).can_fetch(f"https://tarnbrook.example{path}", "finder")), text


def test_groups_of_the_engines_own_agents_count() -> None:
    paths = pd.Series(["/", "/a/", "/b/", "/é/"])
    rules = pd.DataFrame(
        [("*", "disallow", "/b/"), ("finder", "disallow", "/a/"), ("finder", "disallow", "/%c3%a9"), ("scraper", "disallow", "/")],
        columns=RULES,
    )
    assert disallowed(paths, rules).tolist() == [False, False, True, False]
    assert disallowed(paths, rules, ["Finder"]).tolist() == [False, True, False, True]
    assert disallowed(paths, rules, ["finder", "seeker"]).tolist() == [False, True, True, True]
    assert closed_alone(paths, rules).to_dict() == {"finder": 2}
    shut = pd.DataFrame([("*", "disallow", "/"), ("finder", "disallow", "/a/"), ("scraper", "disallow", "/")], columns=RULES)
    assert disallowed(paths, shut).tolist() == [False, True, False, False], "all but some are shut out: those are who matters"


def test_what_is_closed_to_one_agent_alone_is_told() -> None:
    days = pd.date_range("2026-08-01", "2026-10-31")
    search = pd.DataFrame({"date": days, "page": "/a/", "query": "canoe", "clicks": 3, "impressions": 90, "position": 4.0})
    robots = pd.DataFrame([("finder", "disallow", "/a/")], columns=RULES)
    site = nibbet.Site(HOME, search=search, robots=robots)
    assert not site.pages()["robots_blocked"].any()
    assert ['search_agents = ["finder"]' in note["text"] for note in site.account["notes"] if note["code"] == "closed_alone"] == [True]
    told = nibbet.Site(HOME, search=search, robots=robots, settings={"site": {"search_agents": ["finder"]}})
    assert told.pages()["robots_blocked"].all()


SIGNS: dict[str, tuple[dict[str, str], str, str]] = {
    "/none/": ({}, "watch", "no source shows how old it is"),
    "/dated/": ({"published": "2019-01-01"}, "prune", "no page covers its subject"),
    "/fresh/": ({"seen": "2026-10-01"}, "watch", "it was first seen 30 days ago"),
    "/seen/": ({"seen": "2025-08-05"}, "prune", "no page covers its subject"),
    "/listed/": ({"lastmod": "2025-02-01"}, "prune", "no page covers its subject"),
    "/changed/": ({"lastmod": "2026-10-20"}, "watch", "it was first seen 11 days ago"),
    "/hit/": ({"hit": "2026-01-10"}, "prune", "no page covers its subject"),
}


def test_a_page_of_unknown_age_is_never_removed() -> None:
    days = pd.date_range("2025-08-01", "2026-10-31")
    rows = [{"date": day, "page": "/canoe/", "query": "canoe trip", "clicks": 9, "impressions": 90, "position": 2.0} for day in days]

    def having(sign: str) -> dict[str, pd.Timestamp]:
        return {page: pd.Timestamp(signs[sign]) for page, (signs, _, _) in SIGNS.items() if sign in signs}

    for page, day in having("seen").items():
        rows.append({"date": day, "page": page, "query": f"calm {page[1:-1]}", "clicks": 0, "impressions": 2, "position": 70.0})
    published = {page: pd.NaT for page in SIGNS} | {"/canoe/": pd.Timestamp("2019-01-01")} | having("published")
    agent = "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0"
    sources: dict[str, pd.DataFrame] = {
        "search": pd.DataFrame(rows),
        "landings": pd.DataFrame({"date": days, "page": "/canoe/", "channel": "organic", "sessions": 9, "conversions": 0}),
        "crawl": pd.DataFrame({"page": list(published), "status": 200, "published": list(published.values())}),
        "backlinks": pd.DataFrame({"source": ["https://fernhollow.example/"], "target": ["/canoe/"]}),
        "sitemap": pd.DataFrame(having("lastmod").items(), columns=["page", "modified"]),
        "hits": pd.DataFrame(having("hit").items(), columns=["path", "time"]).assign(status=200, agent=agent),
    }
    with nibbet.Site(HOME, **sources) as site:
        found = site.verdicts().set_index("page")
        why = site.why(HOME + "none/")
    for page, (_, verdict, says) in SIGNS.items():
        one = found.loc[HOME[:-1] + page]
        assert (one["verdict"], says in one["because"]) == (verdict, True), one["because"]
        assert one["cause"] == ("dead" if verdict == "prune" else "age unknown")
    assert "known_days" in set(why["measure"])
