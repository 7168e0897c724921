"""Sites of few searchers, and sources that tell little: no page suffers for what nobody could know of it."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import nibbet
from nibbet.cli.main import main
from nibbet.core.join.address import Home, fold
from nibbet.join.slugs import pages_of_slugs

HOME, DAYS = "https://valves.example/", pd.date_range("2025-08-01", "2026-10-31")
SEARCHED, IDLE = [f"/valves/dn-{number}" for number in range(24)], [f"/valves/old-{number}" for number in range(3)]


def search(rng: np.random.Generator, *, by: tuple[str, ...] = ("date", "page", "query")) -> pd.DataFrame:
    """Some twelve clicks a year on each page that is searched at all."""
    rows = []
    for page in (*SEARCHED, *IDLE):
        shown = rng.poisson(0.35 if page in SEARCHED else 0.01, len(DAYS))
        rows.append(
            pd.DataFrame(
                {"date": DAYS, "page": page, "query": f"valve {page[-5:]}", "clicks": rng.binomial(shown, 0.1), "impressions": shown}
            )
        )
    table = pd.concat(rows)
    return table[table["impressions"] > 0].groupby(list(by), as_index=False)[["clicks", "impressions"]].sum()


def landings(rng: np.random.Generator) -> pd.DataFrame:
    pages = [*SEARCHED, *IDLE]
    table = pd.DataFrame({"date": np.repeat(DAYS, len(pages)), "page": pages * len(DAYS), "channel": "Direct"})
    return table.assign(sessions=rng.poisson(0.015, len(table)), conversions=0)


def test_on_a_site_for_few_searchers_a_page_with_few_clicks_is_no_exception() -> None:
    rng = np.random.default_rng(3)
    links = pd.DataFrame({"page": [SEARCHED[0]], "from_url": ["https://fitters.example/"]})
    with nibbet.Site(home=HOME, search=search(rng), landings=landings(rng), backlinks=links) as site:
        pages, evidence = site.pages().set_index("page"), site.evidence()
    pruned = pages.index[pages["verdict"] == "prune"].str.removeprefix(HOME[:-1])
    assert set(IDLE) & set(pruned), "those that nobody searches for"
    assert set(pruned) <= set(IDLE), "the others have what is usual here"
    limit = evidence[(evidence["verdict"] == "prune") & (evidence["measure"] == "clicks_long")]["threshold"].unique()
    assert [float(text.removeprefix("< ")) for text in limit] == pytest.approx([0.2 * pages["clicks_long"].mean()], abs=0.06)


def test_clicks_that_no_row_gives_to_a_page_are_unknown_not_none(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    rng = np.random.default_rng(4)
    given = search(rng, by=("date", "query"))
    given.to_csv(tmp_path / "queries.csv", index=False)
    landings(rng).to_csv(tmp_path / "visits.csv", index=False)
    (tmp_path / "nibbet.toml").write_text(f'[site]\nhome = "{HOME}"\n' + "".join(
        f'[[source]]\nkind = "{kind}"\nfiles = "{name}.csv"\n' for kind, name in (("search", "queries"), ("landings", "visits"))
    ))  # fmt: skip
    assert main(["run", str(tmp_path), "-q"]) == 0
    out = capsys.readouterr().out
    assert f"{given['clicks'].sum():,} clicks, none with its page" in out
    assert "What more would tell\n  pages of queries: no page can be judged by its clicks (27 pages" in out
    pages = pd.read_csv(tmp_path / "out" / "pages.csv")
    assert set(pages["verdict"]) == {"keep"}
    assert pages["because"].str.startswith("Its clicks are unknown, since no row of search names a page; ").all()


def test_a_table_that_lacks_one_column_says_which(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    rng = np.random.default_rng(5)
    search(rng).drop(columns="impressions").to_csv(tmp_path / "search.csv", index=False)
    landings(rng).to_csv(tmp_path / "visits.csv", index=False)
    assert main(["init", str(tmp_path), "--home", HOME]) == 0
    out = capsys.readouterr().out
    assert "search.csv: it would be search, but no column has its impressions (columns: date, page, query, clicks)" in out
    assert f"put a search export there, which is still missing; then: nibbet init {tmp_path} --force" in out
    assert main(["run", str(tmp_path)]) == 2
    assert "no search data is named" in capsys.readouterr().err


@pytest.mark.parametrize("named", [{"post_name": "slug"}, {"url": "page"}], ids=str)
def test_a_list_of_posts_gives_dates_by_address_or_slug_and_its_drafts_are_no_pages(tmp_path: Path, named: dict[str, str]) -> None:
    """What a content system lists: numbers that count nothing, slugs, states and days of publication."""
    rng = np.random.default_rng(6)
    search(rng).to_csv(tmp_path / "search.csv", index=False)
    key, sluggish = next(iter(named)), "slug" in named.values()
    slugs = [page.rsplit("/", 1)[1] for page in SEARCHED] + [f"idea-{number}" for number in range(4)] + ["of-old"]
    posts = pd.DataFrame(
        {
            "ID": [17 * number for number in range(3, 3 + len(slugs))],
            "title": [f"On {slug}" for slug in slugs],
            key: slugs if sluggish else [f"{HOME}valves/{slug}" for slug in slugs],
            "status": ["publish"] * len(SEARCHED) + ["draft", "Private", "auto-draft", "Entwurf", "publish"],
            "date": [f"20{10 + number % 12}-03-05 10:11:12" for number in range(len(slugs))],
        }
    )
    posts.to_csv(tmp_path / "posts.csv", index=False)
    assert main(["init", str(tmp_path), "--home", HOME]) == 0
    with nibbet.open_site(tmp_path) as site:
        pages = site.ledger().set_index("page")
        (posts_read,) = [one for one in site.account["sources"] if one["kind"] == "editorial"]
    assert posts_read["rows_used"] == 25 - sluggish
    fates = {gone["reason"]: gone["rows"] for gone in posts_read["set_aside"]}
    assert fates == {"not published": 4} | ({"slug of no page": 1} if sluggish else {})
    assert not pages.index.str.contains("idea").any(), "nobody can see a draft"
    dated = pages["published"].dropna()
    assert dated.loc[f"{HOME}valves/dn-3"] == pd.Timestamp("2013-03-05")
    assert len(dated) == len(SEARCHED) + (not sluggish)


def test_a_slug_means_the_only_path_that_ends_with_it() -> None:
    known = pages_of_slugs(pd.Series(["/a/lamp", "/a/Lamp/", "https://x.example/b/bulb.html?y=1", "/b/bulb", "/a/wire", "/b/wire/", "/"]))
    assert known["several"].to_dict() == {"lamp": False, "bulb": False, "wire": True}


@pytest.mark.parametrize(("host", "proposed"), [("owlcare", '"=owlcare"'), ("owl-care", '# brand = ["=owl-care"]'), ("redfox", '"redfox"')])
def test_a_name_made_of_what_the_site_is_about_is_a_brand_only_as_written(host: str, proposed: str, tmp_path: Path) -> None:
    kinds = ("food", "cage", "care", "health", "nest", "toys", "vet", "shop")
    queries = [f"owl {one} {two}" for one in kinds for two in ("cost", "guide", "tips", "list")] + ["owlcare", "redfox", "red fox toys"]
    rows = [(day, f"/{query.replace(' ', '-')}", query, 1, 9) for day in DAYS[-30:] for query in queries]
    pd.DataFrame(rows, columns=["date", "page", "query", "clicks", "impressions"]).to_csv(tmp_path / "search.csv", index=False)
    assert main(["init", str(tmp_path), "--home", f"https://{host}.example/"]) == 0
    (line,) = [line for line in (tmp_path / "nibbet.toml").read_text().splitlines() if "brand = " in line]
    assert proposed in line
    assert ('"owl care" is what this site is about' in line) == (host != "redfox")


def test_a_site_that_has_moved_is_read_under_its_new_host(tmp_path: Path) -> None:
    """Most rows name the old host, which mostly redirects; the host of a forum is not named by the word forum."""
    old, new = "http://old-fenwick.example/?p=", "https://forum.fenwickgardens.example/"
    rows = [(day, f"{old}1", query, 3, 9) for day in DAYS[:60] for query in ("fenwick gardens", "gardening forum")]
    rows += [(day, f"{old}{n}" if day < DAYS[-40] else f"{new}{n}/", f"pruning {n}", 3, 30) for day in DAYS for n in range(8)]
    pd.DataFrame(rows, columns=["date", "page", "query", "clicks", "impressions"]).to_csv(tmp_path / "search.csv", index=False)
    listed = [(f"{old}{n}", 301, f"{new}{n}/") if n else (f"{old}0", 404, "") for n in range(8)] + [
        (f"{new}{n}/", 200, "") for n in range(1, 8)
    ]
    pd.DataFrame(listed, columns=["page", "status", "redirects to"]).to_csv(tmp_path / "list.csv", index=False)
    assert main(["init", str(tmp_path)]) == 0
    written = (tmp_path / "nibbet.toml").read_text()
    for line in (f'home = "{new}"', 'old_hosts = ["old-fenwick.example"]', 'brand = ["fenwick gardens"]'):
        assert line in written
    with nibbet.open_site(tmp_path) as site:
        assert not any(source["set_aside"] for source in site.account["sources"]), "nothing of the old host is lost"
        assert site.ledger().set_index("page").loc[f"{new}3/", "clicks_moved"] > 0


@pytest.mark.parametrize("also", ["", "page", "pair"])
def test_queries_without_pages_are_compared_where_they_cover_both_windows(also: str, tmp_path: Path) -> None:
    """Exports by query alone, by page alone, or by page and query for the recent days alone, as consoles give them."""
    rng, days = np.random.default_rng(7), pd.date_range("2026-04-01", "2026-10-31")
    rows = []
    for number in range(40):
        shown = rng.poisson(40, len(days))
        rate = np.where((number < 3) & (days >= "2026-08-03"), 0.05, 0.15)
        rows.append(pd.DataFrame({"date": days, "page": f"{HOME}p-{number}", "query": f"valve {number} {'dn' if number % 2 else 'pn'}",
                                  "clicks": rng.binomial(shown, rate), "impressions": shown}))  # fmt: skip
    table = pd.concat(rows)
    counted = ["clicks", "impressions"]
    table.groupby(["date", "query"], as_index=False)[counted].sum().to_csv(tmp_path / "queries.csv", index=False)
    if also == "page":
        table.groupby(["date", "page"], as_index=False)[counted].sum().to_csv(tmp_path / "pages.csv", index=False)
    elif also:
        table[table["date"] >= "2026-08-03"].to_csv(tmp_path / "pairs.csv", index=False)
        table.groupby(["date", "page"], as_index=False)[counted].sum().to_csv(tmp_path / "pages.csv", index=False)
    assert main(["init", str(tmp_path), "--home", HOME]) == 0
    settings = (tmp_path / "nibbet.toml").read_text()
    (tmp_path / "nibbet.toml").write_text(settings.replace("[[source]]", '[groups.queries]\nwide = ["* dn"]\n\n[[source]]', 1))
    with nibbet.open_site(tmp_path) as site:
        queries, whole, all_levels = site.compare(by="query").set_index("key"), site.compare(by="site"), site.compare()
        window, before = site.windows.recent, site.windows.reference
        notes = {note["code"] for note in site.account["notes"]}
        rising = site.rising()
    had = [table[table["date"].between(str(w.start), str(w.end))].groupby("query")["clicks"].sum() for w in (window, before)]
    assert (queries["recent"] == had[0].reindex(queries.index)).all()
    assert queries["reference"].to_numpy() == pytest.approx(had[1].reindex(queries.index) * window.days / before.days, rel=0.03)
    assert set(queries.index[queries["real"]]) == {f"valve {number} {'dn' if number % 2 else 'pn'}" for number in range(3)}
    assert (queries.loc[queries["real"], "why"] == "pull").all()
    parts = queries[["demand", "rank", "pull", "access", "untold"]].sum(axis=1)
    assert parts.to_numpy() == pytest.approx(queries["change"], abs=1e-6)
    assert whole.loc[whole["measure"] == "clicks", "recent"].item() == had[0].sum()
    group = all_levels.query("level == 'query group'").iloc[0]
    assert (group["key"], group["recent"]) == ("wide", had[0][had[0].index.str.endswith("dn")].sum())
    assert all_levels["level"].isin(["topic"]).any()
    assert ("queries_alone" in notes) == (also == "pair")
    assert set(rising["kind"]) <= {"rising", "fading", "new"}


def test_headings_between_the_rows_of_a_list_are_no_pages_and_its_titles_serve() -> None:
    sheet = pd.DataFrame(
        {
            "URL": [
                "OLD VALVES",
                *(f"valves.example{page}" for page in IDLE),
                "New valves",
                *(f"valves.example{page}" for page in SEARCHED),
            ],
            "Title": [None, *(f"On {page}" for page in IDLE), None, *(f"About {page[-5:]}" for page in SEARCHED)],
            "Publish Date": "2019-05-06",
        }
    )
    with nibbet.Site(home=HOME, search=search(np.random.default_rng(9)), editorial=sheet) as site:
        pages, addresses = site.ledger().set_index("page"), site.addresses.set_index("spelling")
    assert addresses.loc[["OLD VALVES", "New valves"], "reason"].eq("not an address").all()
    assert set(pages.index) == {HOME[:-1] + page for page in (*SEARCHED, *IDLE)}
    assert pages.loc[HOME[:-1] + SEARCHED[3], "title"] == f"About {SEARCHED[3][-5:]}"
    loose = pd.Series(["about", "blog/owl", "/care", "https://valves.example/x"], dtype="str")
    folded = fold(loose.to_frame("spelling").assign(source="search"), Home(address=HOME)).set_index("spelling")["page"]
    assert folded["about"] == HOME + "about", "others are written without a slash too"


@pytest.mark.parametrize(
    "texts",
    [
        {"€ 1.383,58": 1383.58, "197,52 €": 197.52, "R$ 225,51": 225.51, "370,83 zł": 370.83, "1 339,78 kr.": 1339.78, "12 Ft": 12.0},
        {"US$1,428.90": 1428.9, "CHF 12'330.60": 12330.6, "207.74 SEK": 207.74, "₹175.83": 175.83, "-$20.25": -20.25, "S/ 4.50": 4.5},
    ],
    ids=["comma", "point"],
)
def test_sums_of_money_are_read_with_their_currency(texts: dict[str, float]) -> None:
    days = pd.date_range("2026-08-01", periods=10 * len(texts))
    visits = pd.DataFrame({"date": days, "page": "/a", "sessions": np.arange(len(days)) % 7 + 3, "revenue": list(texts) * 10})
    shown = pd.DataFrame({"date": days, "page": "/a", "clicks": 3, "impressions": 30})
    with nibbet.Site(home=HOME, search=shown, landings=visits) as site:
        (read,) = [one for one in site.account["sources"] if one["kind"] == "landings"]
    assert read["rows_used"] == len(days), "refunds count too"
    assert read["measures"]["revenue"]["read"] == pytest.approx(10 * sum(texts.values()))


def test_orders_in_a_table_of_their_own_are_added_to_the_visits_of_another(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    rng = np.random.default_rng(6)
    search(rng).to_csv(tmp_path / "search.csv", index=False)
    visits = landings(rng).query("sessions > 0")
    orders = visits[visits["page"].isin([SEARCHED[0], IDLE[0]])][["date", "page"]].assign(Orders=1, Sales="£12.50")
    orders.to_csv(tmp_path / "orders.csv", index=False)
    links = pd.DataFrame({"Linked page": SEARCHED[:2], "From page": ["https://fitters.example/", "https://pipes.example/"]})
    links.to_csv(tmp_path / "backlinks.csv", index=False)
    assert main(["init", str(tmp_path), "--home", HOME]) == 0
    with nibbet.open_site(tmp_path) as site:
        alone, missing = site.pages().set_index("page"), {one["what"] for one in site.account["missing"]}
    assert alone["sessions"].isna().all(), "orders are no visits"
    assert alone["conversions_long"].sum() == (orders["date"] >= "2025-11-01").sum()
    assert "visits" in missing
    assert not alone["verdict"].eq("prune").any(), "without visits nothing is removed"
    visits.drop(columns="conversions").to_csv(tmp_path / "visits.csv", index=False)
    assert main(["init", str(tmp_path), "--home", HOME, "--force"]) == 0
    with nibbet.open_site(tmp_path) as site:
        pages, sources = site.pages().set_index("page"), site.account["sources"]
    assert sum(one["rows_used"] for one in sources if one["kind"] == "landings") == len(visits) + len(orders)
    assert pages["conversions_long"].sum() == alone["conversions_long"].sum()
    assert pages["sessions_long"].sum() == visits.loc[visits["date"] >= "2025-11-01", "sessions"].sum()
    assert pages.loc[HOME + IDLE[0][1:], "verdict"] != "prune", "it sells"
    assert pages.loc[[HOME + page[1:] for page in IDLE[1:]], "verdict"].eq("prune").all()
    orders[["page", "Orders"]].to_csv(tmp_path / "totals.csv", index=False)
    capsys.readouterr()
    assert main(["init", str(tmp_path), "--home", HOME, "--force"]) == 0
    out = capsys.readouterr().out
    assert "totals.csv: it has conversions of pages, but neither days nor sessions (columns: page, Orders)" in out


def test_clicks_of_ads_are_left_out_with_the_reason(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    given = search(np.random.default_rng(7))
    given.to_csv(tmp_path / "search.csv", index=False)
    given.assign(Campaign="spring", Cost=0.4).to_csv(tmp_path / "paid.csv", index=False)
    tests = pd.DataFrame({"Variant": ["A", "B"] * 5, "Page": [HOME + f"p{n}" for n in range(10)], "Visitors": range(90, 100)})
    tests.to_csv(tmp_path / "tests.csv", index=False)
    assert main(["init", str(tmp_path), "--home", HOME]) == 0
    out = capsys.readouterr().out
    assert 'paid.csv: it counts clicks of ads ("Campaign"), not of search results' in out
    assert 'tests.csv: it counts visitors of tests ("Variant"), not visits' in out
    with nibbet.open_site(tmp_path) as site:
        assert [one["file"] for one in site.account["sources"]] == ["search.csv"]


def test_tables_that_say_nothing_stop_no_run() -> None:
    """Nothing is searched, every address fails, and more visits were engaged than there were: each table is odd, but none is a fault."""
    rng = np.random.default_rng(7)
    queries = pd.Series([page.rsplit("/", 1)[1] for page in SEARCHED])
    demand = pd.DataFrame({"query": queries, "month": "2026-09", "volume": pd.Series([np.nan] * len(queries))})
    visits = landings(rng).assign(engaged_sessions=lambda table: 3 * table["sessions"])
    crawl = pd.DataFrame({"page": [HOME + page.lstrip("/") for page in SEARCHED], "status": 404, "title": "None"})
    site = nibbet.Site(home=HOME, search=search(rng), landings=visits, demand=demand, crawl=crawl)
    assert site.topics()["volume_kind"].eq("impressions").all()
    assert site.check_ideas(["dn 3 valve", "zebra"])["advice"].notna().all()
    assert "engaged sessions of " in next(note["text"] for note in site.account["notes"] if note["code"] == "more_than_all")
    assert set(site.peers()["flag"]) <= {"low", "high"}
    assert site.verdicts()["page"].isin([HOME + page.lstrip("/") for page in IDLE]).all(), "the others fail"
