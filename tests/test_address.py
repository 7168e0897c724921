"""Which spellings are one page, and why."""

from __future__ import annotations

import unicodedata
from urllib.parse import quote, unquote

import numpy as np
import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st

from nibbet.core.join.address import Home, fold
from nibbet.core.sentences import readable

HOME = Home("https://tarnbrook.example/", ("shop.tarnbrook.example", "bücher.example"))
ROOT = "https://tarnbrook.example"


def folded(rows: list[tuple[str, str]], crawl: list[tuple[str, str | None, str | None]] | None = None) -> dict[str, str | None]:
    links = None if crawl is None else pd.DataFrame(crawl, columns=["spelling", "redirect_to", "canonical"])
    table = fold(pd.DataFrame(rows, columns=["spelling", "source"]), HOME, links)
    return {spelling: None if pd.isna(page) else page for spelling, page in zip(table["spelling"], table["page"], strict=True)}


def test_a_page_that_answers_does_not_stand_for_one_that_fails() -> None:
    rows = [("/p/1?colour=red", "crawl"), ("/p/1", "crawl"), ("/p/2?colour=red", "crawl"), ("/p/2", "crawl")]
    crawl = pd.DataFrame([(text, None, text.partition("?")[0], 404 if text == "/p/1" else 200) for text, _ in rows], columns=["spelling", "redirect_to", "canonical", "status"])
    pages = fold(pd.DataFrame(rows, columns=["spelling", "source"]), HOME, crawl).set_index("spelling")["page"]
    assert pages["/p/1?colour=red"] != pages["/p/1"], "the canonical fails"
    assert pages["/p/2?colour=red"] == pages["/p/2"]


@pytest.mark.parametrize(
    ("spelling", "page"),
    [
        ("http://tarnbrook.example/a/", "/a/"),
        ("https://WWW.Tarnbrook.EXAMPLE/a/", "/a/"),
        ("https://tarnbrook.example:443/a/", "/a/"),
        ("https://tarnbrook.example./a/", None),
        ("//tarnbrook.example/a/", "/a/"),
        ("tarnbrook.example/a/", "/a/"),
        ("www.tarnbrook.example/a/", "/a/"),
        ("/a/", "/a/"),
        ("  /a/  ", "/a/"),
        ("a/", "/a/"),
        ("/b/../a/./", "/a/"),
        ("/%61/", "/a/"),
        ("/%7euser/", "/~user/"),
        ("/caf%c3%a9/", "/caf%C3%A9/"),
        ("/café/", "/caf%C3%A9/"),
        ("/cafe%CC%81/", "/caf%C3%A9/"),
        ("/a/#part", "/a/"),
        ("/a/?utm_source=x&utm_medium=y", "/a/"),
        ("/a/?xyclid=123", "/a/"),
        ("/a/?b=2&a=1", "/a/?a=1&b=2"),
        ("/a/?b=2&utm_term=z&a=1", "/a/?a=1&b=2"),
        ("/a/index.html", "/a/"),
        ("/a/Default.aspx", "/a/"),
        ("https://shop.tarnbrook.example/a/", "/a/"),
        ("https://xn--bcher-kva.example/a/", "/a/"),
        ("https://bücher.example/a/", "/a/"),
        ("https://tarnbrook.example", "/"),
        ("https://tarnbrook.example\\a\\", "/a/"),
        ("mailto:a@b.example", None),
        ("https://elsewhere.example/a/", None),
        ("(other)", None),
        ("http://[oops", None),
    ],
)
def test_what_never_distinguishes_is_folded(spelling: str, page: str | None) -> None:
    assert folded([(spelling, "search")])[spelling] == (None if page is None else ROOT + page)


@given(st.text(alphabet=st.characters(blacklist_categories=("Cs",)), max_size=8))
def test_what_people_read_stands_for_one_address(name: str) -> None:
    path = "/" + quote(name, safe="")
    shown = readable(path)
    assert not {character for character in shown if unicodedata.category(character)[0] not in "LMN" and not character.isascii()}
    assert [quote(unquote(one), safe="") for one in shown.split("/")] == [quote(unquote(one), safe="") for one in path.split("/")]


def test_a_slash_is_decided_by_the_only_spelling_the_crawl_knows() -> None:
    found = folded([("/a", "landings"), (ROOT + "/a/", "crawl"), ("/A/", "landings")])
    assert set(found.values()) == {ROOT + "/a/"}


def test_two_spellings_in_the_crawl_stay_apart_and_so_does_what_could_be_either() -> None:
    found = folded([(ROOT + "/a", "crawl"), (ROOT + "/a/", "crawl"), ("/A/", "landings")])
    assert len(set(found.values())) == 3


def test_redirect_and_canonical_decide_first() -> None:
    crawl: list[tuple[str, str | None, str | None]] = [
        (ROOT + "/a", ROOT + "/a/", None),
        (ROOT + "/a/", None, None),
        (ROOT + "/b/?sort=up", None, ROOT + "/b/"),
        (ROOT + "/b/", None, None),
    ]
    found = folded([(spelling, "crawl") for spelling, _, _ in crawl], crawl)
    assert found[ROOT + "/a"] == ROOT + "/a/"
    assert found[ROOT + "/b/?sort=up"] == ROOT + "/b/"


def test_a_redirect_to_another_path_keeps_its_own_row() -> None:
    found = folded(
        [(ROOT + "/old/", "crawl"), (ROOT + "/new/", "crawl")], [(ROOT + "/old/", ROOT + "/new/", None), (ROOT + "/new/", None, None)]
    )
    assert found[ROOT + "/old/"] == ROOT + "/old/"


def test_redirects_in_a_circle_decide_nothing() -> None:
    found = folded(
        [(ROOT + "/a", "crawl"), (ROOT + "/a/", "crawl")], [(ROOT + "/a", ROOT + "/a/", None), (ROOT + "/a/", ROOT + "/a", None)]
    )
    assert len(set(found.values())) == 2


@pytest.mark.parametrize("query", ["?page=2", "?lang=de", "?p=3"])
def test_pagination_and_language_are_pages_of_their_own(query: str) -> None:
    found = folded([("/a/" + query, "landings"), (ROOT + "/a/", "crawl")])
    assert found["/a/" + query] == ROOT + "/a/" + query


def test_print_and_mobile_versions_join_their_page() -> None:
    forms = [("/a/print", "landings"), ("/m/a/", "search"), ("/a/?amp=1", "search"), ("/a/?print", "search")]
    found = folded([*forms, (ROOT + "/a/", "crawl")])
    assert set(found.values()) == {ROOT + "/a/"}


def test_a_parameter_that_search_lists_as_a_page_stays_a_page() -> None:
    found = folded([("/a/?colour=red", "search"), ("/a/?ref=friend", "landings"), (ROOT + "/a/", "crawl")])
    assert found["/a/?colour=red"] == ROOT + "/a/?colour=red"
    assert found["/a/?ref=friend"] == ROOT + "/a/"


@pytest.mark.parametrize(("listed", "merged"), [(4, True), (2, False)])
def test_a_parameter_that_only_visits_carry_distinguishes_no_page(listed: int, merged: bool) -> None:
    pages = [f"{ROOT}/?id={n}&lang=en" for n in range(4)]
    visits = [f"/?SID=x{n}&id={n}&lang=en" for n in range(4)]
    found = folded([*[(page, "crawl") for page in pages[:listed]], *[(visit, "landings") for visit in visits]])
    assert [found[visit] == page for visit, page in zip(visits, pages, strict=True)] == [merged] * 4
    other = folded([*[(page, "crawl") for page in pages], *[(visit, "landings") for visit in visits], (ROOT + visits[0], "search")])
    assert len({other[visit] for visit in visits} - set(pages)) == 4, "search lists one of them"


def generated(rng: np.random.Generator, pages: int) -> tuple[pd.DataFrame, pd.DataFrame, pd.Series]:
    """Spellings with their source, the crawl's links, and the true page of each spelling; every third page holds a pair that nothing decides."""
    rows: list[tuple[str, str, str]] = []
    links: list[tuple[str, str | None, str | None]] = []
    for number in range(pages):
        path, kind = f"/part-{number % 7}/page-{number}", number % 6
        true = ROOT + path + "/"
        if kind in (0, 1):  # the crawl knows one spelling, others write it their way
            rows += [
                (true, "crawl", true),
                (f"http://www.tarnbrook.example{path}/", "search", true),
                (path, "landings", true),
                (path.title() + "/", "landings", true),
            ]
            rows += [
                (f"{path}/?ref={rng.integers(9)}", "landings", true),
                (f"{path}/?utm_source=x#top", "landings", true),
                (f"/m{path}/", "landings", true),
            ]
            links.append((true, None, true))
        elif kind == 2:  # a redirect says which
            rows += [
                (true, "crawl", true),
                (ROOT + path, "crawl", true),
                (path, "landings", true),
                (f"www.tarnbrook.example{path}", "search", true),
            ]
            links += [(ROOT + path, true, None), (true, None, None)]
        elif kind == 3:  # no crawl row: search knows one spelling, landings another
            rows += [
                (f"https://www.tarnbrook.example{path}/", "search", true),
                (path, "landings", true),
                (f"{path}/index.html", "landings", true),
            ]
        elif kind == 4:  # two live pages that differ in the slash only
            rows += [(true, "crawl", true), (ROOT + path, "crawl", ROOT + path), (f"https://www.tarnbrook.example{path}/", "search", true)]
            links += [(true, None, true), (ROOT + path, None, ROOT + path)]
        else:  # search lists both letter cases, languages and pages of a list as results of their own
            for other in (path + "/", path.title() + "/", f"{path}/?lang=de", f"{path}/?page=2", f"{path}/?colour=red"):
                rows.append((ROOT + other, "search", ROOT + other))
    table = pd.DataFrame(rows, columns=["spelling", "source", "true"])
    return (
        table[["spelling", "source"]],
        pd.DataFrame(links, columns=["spelling", "redirect_to", "canonical"]),
        table.drop_duplicates("spelling").set_index("spelling")["true"],
    )


def test_merging_is_never_wrong_and_hardly_ever_missed() -> None:
    spellings, crawl, true = generated(np.random.default_rng(5), 3000)
    found = fold(spellings, HOME, crawl).set_index("spelling")["page"]
    table = pd.DataFrame({"found": found, "true": true}).dropna()
    assert len(table) == len(true), "every spelling found its page"

    def pairs(*by: str) -> int:
        size = table.groupby(list(by)).size()
        return int((size * (size - 1) // 2).sum())

    right, merged, wanted = pairs("found", "true"), pairs("found"), pairs("true")
    assert right / merged == 1.0, "precision"
    assert right / wanted >= 0.99, "recall"
