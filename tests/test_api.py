"""The Python side: examples run for real, frames of any library, every verdict from a small made-up site."""

from __future__ import annotations

import ast
import json
import subprocess
import sys
from pathlib import Path

import numpy as np
import pandas as pd
import polars as pl
import pyarrow as pa
import pytest

import nibbet
from nibbet.errors import SourceError

HOME = "https://tarnbrook.example/"
EXAMPLES = Path(__file__).parents[1] / "examples"


def days(paths: list[str], shown: float = 30.0, start: str = "2025-06-01") -> pd.DataFrame:
    rng = np.random.default_rng(0)
    table = pd.DataFrame([(day, path) for day in pd.date_range(start, "2026-10-31") for path in paths], columns=["date", "page"])
    table["impressions"] = rng.poisson(shown, len(table))
    table["clicks"] = rng.binomial(table["impressions"], 0.1)
    return table.assign(position=3.0, query="about " + table["page"].str.strip("/"))


def run(*arguments: object) -> str:
    return subprocess.run([sys.executable, *map(str, arguments)], capture_output=True, text=True, check=True).stdout


def test_the_quarterly_review_runs(ran: Path) -> None:
    said = run(EXAMPLES / "quarterly_review.py", ran)
    for part in ("rows read", "most by", "refresh", "clicks a month", "wrote report.html", "wrote workbook.xlsx"):
        assert part in said


def test_the_notebook_runs_and_shows(tmp_path: Path) -> None:
    cells = [cell for cell in json.loads((EXAMPLES / "your_frames.ipynb").read_text("utf-8"))["cells"] if cell["cell_type"] == "code"]
    names: dict[str, object] = {}
    shown = []
    for cell in cells:
        *before, last = ast.parse("".join(cell["source"])).body
        exec(compile(ast.Module(before, []), "cell", "exec"), names)
        if isinstance(last, ast.Expr):
            value = eval(compile(ast.Expression(last.value), "cell", "eval"), names)
            shown.append(value._repr_html_() if hasattr(value, "_repr_html_") else value)
        else:
            exec(compile(ast.Module([last], []), "cell", "exec"), names)
    site, account, addresses, verdicts, *_ = shown
    assert "refresh" in site
    assert "impressions" in account
    assert "www.tarnbrook.example" in addresses, "a plain frame is shown as pandas shows it"
    assert "/rivers/elverdale/" in verdicts
    assert "prune" in verdicts
    assert "tarnbrook.example" not in verdicts, "addresses stand without their host"


def test_a_styled_table_escapes_what_comes_from_outside() -> None:
    text = nibbet.styled(pd.DataFrame({"page": ["https://a.example/<b>"], "because": ["<script>x</script>"], "gain": [3.2]})).to_html()
    assert "<script>" not in text
    assert "<b>" not in text
    assert "&lt;script&gt;" in text


@pytest.mark.slow
def test_the_large_site_runs() -> None:
    said = run(EXAMPLES / "million_pages.py", 1500)
    assert said.startswith("1,500 pages in")
    assert "refresh" in said


@pytest.mark.parametrize("into", [lambda f: f, pl.from_pandas, pa.Table.from_pandas])
def test_frames_of_any_library_give_the_same_ledger(into: object) -> None:
    frame = days(["/a/", "/b/"])
    site = nibbet.Site(home=HOME, search=into(frame))  # type: ignore[operator]
    assert site.ledger()["clicks_long"].sum() == frame[frame["date"] > "2025-10-31"]["clicks"].sum()
    site.close()


@pytest.mark.parametrize(
    "kept", [pytest.param(["page"], marks=pytest.mark.slow), ["query"], pytest.param(["page", "query"], marks=pytest.mark.slow)]
)
def test_any_grain_serves(kept: list[str], tmp_path: Path) -> None:
    frame = days(["/a/", "/b/", "/"])
    keys = ["date", *kept]
    site = nibbet.Site(
        home=HOME,
        search=frame.groupby(keys, as_index=False).agg(
            clicks=("clicks", "sum"), impressions=("impressions", "sum"), position=("position", "mean")
        ),
    )
    site.write(tmp_path / "out")
    assert len(site.pages()) == (3 if "page" in kept else 0)
    assert site.account["sources"][0]["measures"]["clicks"]["ledger"] == (frame["clicks"].sum() if "page" in kept else 0)
    site.close()


@pytest.mark.slow
def test_nothing_is_pruned_without_the_sources_that_would_tell() -> None:
    frame = days(["/a/", "/b/"])
    crawl = pd.DataFrame({"page": ["/a/", "/b/", "/quiet/"], "status": 200, "title": ["A", "B", "Quiet"], "published": "2019-01-01"})
    visits = frame[["date", "page"]].assign(channel="organic", sessions=frame["clicks"], conversions=0)

    def said(needs: str, **sources: pd.DataFrame) -> pd.Series:
        site = nibbet.Site(home=HOME, search=frame, crawl=crawl, settings={"verdicts": {"prune_needs": needs}}, **sources)
        row = site.verdicts().set_index("page").loc[HOME + "quiet/"]
        site.close()
        return row

    alone, visited, allowed = said("both"), said("both", landings=visits), said("one", landings=visits)
    assert (alone["verdict"], alone["cause"]) == ("watch", "untold")
    assert "no source has visits and backlinks" in alone["because"]
    assert (visited["verdict"], visited["cause"]) == ("watch", "untold")
    assert (allowed["verdict"], allowed["confidence"]) == ("prune", "low")
    assert "backlinks unknown" in allowed["because"]
    assert said("none")["verdict"] == "prune"


def test_what_a_page_earned_at_its_old_address_keeps_it() -> None:
    """Addresses that moved lately, of pages with hardly anything since: what came before keeps them, by clicks, visits or links."""
    names = ["clicks", "visits", "links", "nothing"]
    frame, before = days(["/a/", "/b/"]), pd.date_range("2026-01-01", "2026-07-31")
    frame = pd.concat([frame, pd.DataFrame({"date": before[:30], "page": "/old/clicks/", "query": "clicks", "clicks": 1, "impressions": 1, "position": 3.0})])
    visits = frame.loc[frame["page"].isin(["/a/", "/b/"]), ["date", "page"]].assign(sessions=3)
    visits = pd.concat([visits, pd.DataFrame({"date": before[:30], "page": "/old/visits/", "sessions": 1})]).assign(channel="e-mail", conversions=0)
    rows = [("/a/", 200, None, "A"), ("/b/", 200, None, "B"), *((f"/new/{name}/", 200, None, name) for name in names)]
    rows += [(f"/old/{name}/", 301, f"/new/{name}/", None) for name in names]
    crawl = pd.DataFrame(rows, columns=["page", "status", "redirect_to", "title"]).assign(published="2019-01-01")
    links = pd.DataFrame({"from_url": ["https://birds.example/x"], "page": ["/old/links/"]})
    with nibbet.Site(home=HOME, search=frame, landings=visits, crawl=crawl, backlinks=links) as site:
        verdicts = site.verdicts().set_index("page")["verdict"]
    assert {name: verdicts[f"{HOME}new/{name}/"] for name in names} == {**dict.fromkeys(names, "keep"), "nothing": "prune"}


def test_pages_with_another_purpose_are_judged_by_their_visits() -> None:
    frame = days(["/a/", "/b/"])
    crawl = pd.DataFrame(
        {
            "page": ["/a/", "/b/", "/offers/may/", "/offers/june/", "/login/"],
            "status": 200,
            "title": list("ABMJL"),
            "published": "2019-01-01",
        }
    )
    visits = frame[["date", "page"]].assign(channel="organic", sessions=frame["clicks"], conversions=0)
    visits.loc[len(visits)] = [pd.Timestamp("2026-05-01"), "/offers/may/", "newsletter", 60, 0]
    links = pd.DataFrame({"from_url": ["https://other.example/"], "page": ["/a/"], "anchor": ["x"]})
    purpose = {"campaign": ["/offers/*"], "account": ["/login/"]}
    site = nibbet.Site(home=HOME, search=frame, crawl=crawl, landings=visits, backlinks=links, settings={"purpose": purpose})
    pages = site.pages().set_index("page")
    site.close()
    assert pages.loc[HOME + "offers/may/", "verdict"] == "keep"
    assert "a campaign page, judged by its visits: 60 sessions" in pages.loc[HOME + "offers/may/", "because"]
    assert pages.loc[HOME + "offers/june/", "verdict"] == "prune"
    assert pages["purpose"].dropna().to_dict() == {
        HOME + "login/": "account",
        HOME + "offers/may/": "campaign",
        HOME + "offers/june/": "campaign",
    }


def test_safeguards_hold() -> None:
    frame = days(["/a/", "/b/"])
    quiet = ["/visited/", "/selling/", "/linked/", "/kept/", "/new/", "/dead/"]
    pages = ["/a/", "/b/", *quiet]
    dates = [None] * len(pages)
    dates[-2] = "2026-09-01"  # type: ignore[call-overload]
    crawl = pd.DataFrame({"page": pages, "status": 200, "title": pages, "published": dates})
    visits = frame[["date", "page"]].assign(channel="organic", sessions=frame["clicks"], conversions=0)
    for path, sessions, conversions in (("/visited/", 12, 0), ("/selling/", 1, 1)):
        visits.loc[len(visits)] = [pd.Timestamp("2026-05-01"), path, "newsletter", sessions, conversions]
    links = pd.DataFrame({"from_url": ["https://other.example/"], "page": ["/linked/"], "anchor": ["x"]})
    settings = {"protect": {"pages": ["/kept/*"]}}
    with nibbet.Site(home=HOME, search=frame, crawl=crawl, landings=visits, backlinks=links, settings=settings) as site:
        verdicts = site.verdicts().set_index("page")
    found = {page: verdicts.loc[HOME[:-1] + page, "verdict"] for page in quiet}
    assert found == dict.fromkeys(quiet[:4], "keep") | {"/new/": "watch", "/dead/": "watch"}
    assert verdicts.loc[HOME + "dead/", "cause"] == "age unknown"


def test_a_short_history_is_never_called_dead() -> None:
    frame = days(["/a/"], start="2026-06-01")
    crawl = pd.DataFrame({"page": ["/a/", "/quiet/"], "status": 200, "title": ["A", "Quiet"]})
    site = nibbet.Site(
        home=HOME, search=frame, crawl=crawl, landings=frame[["date", "page"]].assign(sessions=frame["clicks"], conversions=0)
    )
    quiet = site.verdicts().set_index("page").loc[HOME + "quiet/"]
    assert quiet["verdict"] == "watch"
    assert "cover only 153 days" in quiet["because"]
    told = site.ledger()[["sessions_organic", "engaged_sessions", "engagement_rate", "revenue", "sessions", "conversions"]].notna().any()
    assert told.tolist() == [False] * 4 + [True] * 2, "what no column tells is unknown, not 0"
    assert site.compare(by="site")["measure"].isin(["clicks", "conversions"]).all()
    site.close()


def test_a_page_dated_anew_is_not_young() -> None:
    """Who rewrites a page often gives it a new day of publication; search has shown it for over a year."""
    frame = pd.concat([days(["/old/", "/plain/"]), days(["/new/"], start="2026-10-01")], ignore_index=True)
    crawl = pd.DataFrame({"page": ["/old/", "/plain/", "/new/"], "published": ["2026-10-05", "2024-01-01", "2026-09-29"], "status": 200})
    with nibbet.Site(home=HOME, search=frame, crawl=crawl) as site:
        verdicts = site.verdicts().set_index("page")
        changes = site.compare(by="page").set_index("key")
    assert verdicts.loc[HOME + "old/", "verdict"] == verdicts.loc[HOME + "plain/", "verdict"] == "keep"
    assert changes.loc[HOME + "old/", "why"] != "new"
    assert "Published 2026-09-29" in verdicts.loc[HOME + "new/", "because"]


@pytest.mark.slow
def test_hostile_text_does_no_harm(tmp_path: Path) -> None:
    frame = days(["/a/"]).assign(query="=cmd|' /c calc'!A1")
    crawl = pd.DataFrame({"page": ["/a/"], "status": [200], "title": ["<script>alert(1)</script>\x1b[31m"]})
    site = nibbet.Site(home=HOME, search=frame, crawl=crawl, landings=frame[["date", "page"]].assign(channel="+organic", sessions=1))
    site.write(tmp_path)
    assert "'=cmd|" in (tmp_path / "queries.csv").read_text()
    assert "<script>alert" not in (tmp_path / "report.html").read_text()
    negative = pd.read_csv(tmp_path / "pages.csv")
    assert negative["change_low"].dtype == float, "numbers are never quoted"
    site.close()


def test_named_owner_stands_even_without_an_impression() -> None:
    frame = days(["/a/", "/b/"]).assign(query="wild water")
    editorial = pd.DataFrame({"page": ["/c/"], "target_query": ["Wild  Water; rapids,\nwhite water"]})
    site = nibbet.Site(home=HOME, search=frame, editorial=editorial)
    roles = site.query("wild water").set_index("page")["role"]
    assert roles[HOME + "c/"] == "owner"
    assert site.query("white water")["page"].tolist() == site.query("rapids")["page"].tolist() == [HOME + "c/"]
    assert site.pages().set_index("page").loc[HOME + "c/", "intended"] == "wild water", "the first of several"
    assert site.query("wild water").set_index("page").loc[HOME + "c/", "impressions"] == 0
    assert set(roles[[HOME + "a/", HOME + "b/"]]) == {"rival"}
    site.close()


def test_redirects_have_no_chains_and_no_loops() -> None:
    from nibbet.core.redirects import straighten

    table = straighten(
        pd.DataFrame({"from": ["a", "b", "c", "x", "y", "z"], "to": ["b", "c", "d", "y", "x", None], "because": ""})
    ).set_index("from")
    assert table.loc[["a", "b", "c"], "to"].tolist() == ["d", "d", "d"]
    assert table.loc[["x", "y", "z"], "status"].tolist() == [410, 410, 410]
    assert not table["to"].isin(table.index).any()


@pytest.mark.slow
def test_results_keep_apart_what_takes_turns_for_another_intent() -> None:
    """Two pages lead the same queries in turn; what each draws alone has other results, so that readers look for two things."""
    rng, rows = np.random.default_rng(5), []
    canoe, workshop = "/canoe-repair/", "/repair-of-canoes/"
    for day, date in enumerate(pd.date_range("2025-08-01", "2026-10-31")):
        for place, page in zip((8.0, 12.0) if day % 2 else (12.0, 8.0), (canoe, workshop), strict=True):
            rows += [(date, page, f"canoe repair part {n}", 24, place) for n in range(5)]
        for page, own in ((canoe, "glue"), (workshop, "workshop")):
            rows += [(date, page, f"canoe repair {own}{more}", 12, 8.0) for more in ("", " price")]
        rows += [(date, f"/guide-{n}/", f"guide {n}", 30, 2.5) for n in range(30)]
    frame = pd.DataFrame(rows, columns=["date", "page", "query", "impressions", "position"])
    frame["clicks"] = rng.binomial(frame["impressions"], np.where(frame["position"] < 5, 0.1, 0.02))
    crawl = pd.DataFrame({"page": frame["page"].unique(), "status": 200, "published": "2020-01-01"})
    crawl["title"] = crawl["page"].str.strip("/").str.replace("-", " ")
    listed = [
        (f"canoe repair {word}{more}", rank, f"https://{word}{rank}.example/")
        for word in ("glue", "workshop")
        for more in ("", " price")
        for rank in range(1, 9)
    ]
    results = pd.DataFrame(listed, columns=["query", "rank", "url"])
    said = {}
    for told in (None, results):
        site = nibbet.Site(home=HOME, search=frame, crawl=crawl, results=told)
        said[told is not None] = (
            set(site.groups()["page"]),
            site.apart()["because"].tolist(),
            site.verdicts().set_index("page")["verdict"],
        )
        site.close()
    together, _, merged = said[False]
    assert together == {HOME + "canoe-repair/", HOME + "repair-of-canoes/"}
    assert "consolidate" in merged.loc[list(together)].tolist()
    together, because, kept = said[True]
    assert not together
    assert because == ["By the results of their queries, 0% of their clicks have the same intent, below 15%."]
    assert "consolidate" not in kept.tolist()


def test_the_last_day_may_be_a_text(tmp_path: Path) -> None:
    days(["/a/"]).to_csv(tmp_path / "search.csv", index=False)
    (tmp_path / "nibbet.toml").write_text(f'[site]\nhome = "{HOME}"\n[[source]]\nkind = "search"\nfiles = "search.csv"\n')
    with nibbet.open_site(tmp_path, as_of="2026-10-20") as site:
        assert str(site.windows.recent).endswith("2026-10-20")
    with pytest.raises(nibbet.errors.ConfigError, match="is no day"):
        nibbet.open_site(tmp_path, as_of="yesterday")


def test_frames_are_taken_as_analysts_have_them() -> None:
    """Grouped by day, page and query, lazy, or in parts: all the same; without days, the message says what a frame can hold."""
    table = days([f"/a/{n}/" for n in range(6)])
    forms = [table, table.groupby(["date", "page", "query"]).sum(), pl.from_pandas(table).lazy(), [table.head(900), pl.from_pandas(table.iloc[900:])]]
    ledgers = []
    for form in forms:
        with nibbet.Site(home=HOME, search=form) as site:
            ledgers.append(site.ledger()[["page", "clicks", "impressions"]])
    assert all(ledger.equals(ledgers[0]) for ledger in ledgers)
    late = table[table["date"] >= "2026-08-03"].groupby(["page", "query"])[["clicks", "impressions"]].sum()
    with nibbet.Site(home=HOME, search=late) as site, pytest.raises(SourceError, match=r"frame\.assign") as refused:
        site.pages()
    told = {"first_day": "2026-08-03", "last_day": "2026-10-31"}
    assert all(f'{name}="{day}"' in str(refused.value) for name, day in told.items())
    with nibbet.Site(home=HOME, search=late.assign(**told)) as site:
        assert site.pages()["clicks"].sum() == late["clicks"].sum()


def test_a_page_shown_for_part_of_a_year_is_judged_by_its_rate() -> None:
    """A site that moved, whose old host nobody redirects: what its pages earned there is unknown."""
    frame, late = days(["/a/", "/b/"]), pd.date_range("2026-05-15", "2026-10-31", freq="12D")
    few = pd.DataFrame([(day, f"/{name}/", name, int(name == "moved"), 1, 3.0) for day in late for name in ("moved", "poor")], columns=["date", "page", "query", "clicks", "impressions", "position"])  # fmt: skip
    crawl = pd.DataFrame({"page": ["/a/", "/b/", "/moved/", "/poor/"], "status": 200, "title": ["A", "B", "Moved", "Poor"], "published": "2019-01-01"})
    visits = frame[["date", "page"]].assign(sessions=3, channel="e-mail", conversions=0)
    told = {"verdicts": {"prune_needs": "one"}}
    with nibbet.Site(home=HOME, search=pd.concat([frame, few]), landings=visits, crawl=crawl, settings=told) as site:
        verdicts, why = site.verdicts().set_index("page")["verdict"], site.why(HOME + "poor/").set_index("measure")
    assert (verdicts[HOME + "moved/"], verdicts[HOME + "poor/"]) == ("keep", "prune"), "15 clicks in 170 days make 32 a year"
    assert (why.loc[["clicks_at_this_rate"], "value"] == 0).all()
