"""Sources that are read rightly and say what is not so: a list for a crawl, days of an import, visits of machines, days without rows."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

import nibbet
from nibbet.core.ledger import with_followed_links
from nibbet.core.windows import missing_days

HOME, DAYS = "https://kilns.example/", pd.date_range("2025-07-01", "2026-10-31")
LIVING, DEAD = [f"/guide/{number}/" for number in range(12)], [f"/diary/{number}/" for number in range(6)]
rng = np.random.default_rng(8)
SHOWN = rng.poisson(30, (len(LIVING), len(DAYS)))
SEARCH = pd.DataFrame({"date": np.tile(DAYS, len(LIVING)), "page": np.repeat(LIVING, len(DAYS)), "impressions": SHOWN.ravel()})
SEARCH = SEARCH.assign(query="kiln " + SEARCH["page"].str.strip("/").str.replace("/", " "), clicks=rng.binomial(SHOWN.ravel(), 0.1), position=3.0)
VISITS = SEARCH.assign(channel="Organic", sessions=SEARCH["clicks"], engaged_sessions=rng.binomial(SEARCH["clicks"], 0.6), conversions=0)
VISITS = VISITS.assign(engagement_seconds=VISITS["engaged_sessions"] * 40)[
    ["date", "page", "channel", "sessions", "engaged_sessions", "engagement_seconds", "conversions"]
]
CRAWL = pd.DataFrame({"page": ["/", *LIVING, *DEAD], "status": 200, "published": "2022-02-01"}).assign(title=lambda t: "Kiln " + t["page"])
LINKS = pd.DataFrame({"page": [LIVING[0]], "from_url": ["https://potters.example/"]})


def site(search: pd.DataFrame = SEARCH, visits: pd.DataFrame = VISITS, crawl: pd.DataFrame = CRAWL) -> nibbet.Site:
    return nibbet.Site(home=HOME, search=search, landings=visits, crawl=crawl, backlinks=LINKS)


def notes_of(one: nibbet.Site) -> dict[str, str]:
    return {note["code"]: note["text"] for note in one.account["notes"]}


def test_a_crawl_of_a_list_makes_no_orphans() -> None:
    with site(crawl=CRAWL.assign(inlinks=0)) as one:
        assert not one.repairs()["repair"].eq("orphan").any()
        assert one.pages()["inlinks"].isna().all()
        assert notes_of(one)["links_not_followed"].startswith("According to the crawl, nothing links to 19 pages")
    some = CRAWL.assign(inlinks=np.where(CRAWL["page"].isin(DEAD[:2]), 0, 3))
    assert with_followed_links(some)[1] == 0
    with site(crawl=some) as one:
        assert one.repairs()["repair"].eq("orphan").sum() == 2


def test_what_a_crawl_of_a_part_lacks_is_no_repair() -> None:
    with site(crawl=CRAWL.iloc[[0, 1, 2, -1]]) as one:
        assert not one.repairs()["repair"].eq("unlisted").any()
        assert "10 pages with clicks are missing from the crawl" in notes_of(one)["not_in_crawl"]
        assert "It holds only part of the site" in notes_of(one)["not_in_crawl"]
    with site(crawl=CRAWL.drop(index=1)) as one:
        assert one.repairs()["repair"].eq("unlisted").sum() == 1


def test_days_of_an_import_date_no_page() -> None:
    imported = np.where(np.arange(len(CRAWL)) % 2, "2026-09-01", "2026-09-02")
    imported[-1] = "2026-10-05"
    with site(crawl=CRAWL.assign(published=imported)) as one:
        pages = one.pages().set_index("page")
        assert "on 2 days from 2026-09-01 to 2026-09-02" in notes_of(one)["imported"]
    assert pages.loc[[HOME[:-1] + page for page in DEAD[:-1]], "cause"].eq("age unknown").all()
    assert pages.loc[HOME[:-1] + DEAD[-1], "cause"] == "young", "of a day of its own"
    assert not pages.loc[[HOME[:-1] + page for page in LIVING], "verdict"].eq("watch").any()


def test_visits_of_machines_keep_no_page() -> None:
    days = DAYS[-60:]
    many = pd.DataFrame({"date": days, "page": DEAD[0], "channel": "Referral", "sessions": 3, "engaged_sessions": 0, "engagement_seconds": 0})
    people = many.assign(page=DEAD[1], sessions=1, engaged_sessions=(np.arange(60) % 4 == 0).astype(int))
    few = many.iloc[:3].assign(page=DEAD[2], sessions=5, engagement_seconds=20)
    with site(visits=pd.concat([VISITS, many, people, few]).fillna({"conversions": 0})) as one:
        pages = one.pages().set_index("page").loc[[HOME[:-1] + page for page in DEAD[:3]]]
    assert pages["verdict"].tolist() == ["prune", "keep", "keep"], "those who stay a few seconds are people"
    assert "180 sessions without any engagement, as of machines" in pages["because"].iloc[0]


@pytest.mark.parametrize("lacks", ["search", "both"])
def test_days_without_rows_are_no_loss(lacks: str) -> None:
    def gap(table: pd.DataFrame) -> pd.DataFrame:
        return table[(table["date"] < "2026-09-10") | (table["date"] > "2026-09-24")]

    with site() as one:
        whole = one.compare(by="site").set_index("measure")
    with site(search=gap(SEARCH), visits=gap(VISITS) if lacks == "both" else VISITS) as one:
        changes = one.compare(by="site").set_index("measure")
        assert "windows are compared by the days that they have" in notes_of(one)["gaps"]
    for measure in ("clicks", "sessions from search"):
        assert changes.loc[measure, "change_share"] == pytest.approx(whole.loc[measure, "change_share"], abs=0.03)
        assert not changes.loc[measure, "real"]


def test_few_counts_or_rows_of_weeks_leave_no_gap() -> None:
    days = pd.Series(DAYS.delete([40, 41, 90]))
    assert missing_days(days, pd.Series(50, index=days.index)).tolist() == [DAYS[40], DAYS[41], DAYS[90]]
    assert missing_days(days, pd.Series(3, index=days.index)).empty, "some days have none by chance"
    weeks = pd.Series([*DAYS[:30], *DAYS[40:80:7], *DAYS[90:120]])
    assert missing_days(weeks, pd.Series(50, index=weeks.index)).empty
