"""The report in a real browser: it filters, sorts, opens dossiers, asks nothing of the network, and hostile text stays text."""

from __future__ import annotations

import json
import re
import shutil
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

import pandas as pd
import pytest

import nibbet
from nibbet.core.tables import records
from nibbet.render.drawing import Drawing
from nibbet.render.report import report

CHROMIUM = next(filter(None, map(shutil.which, ("chromium", "chromium-browser"))), None)
in_browser = pytest.mark.skipif(CHROMIUM is None, reason="needs Debian's chromium, which `make test` installs where it may")
HOSTILE = '</script><script>window.hit=1</script><img src=x onerror="window.hit=2">'


@dataclass
class Opened:
    """A report in the browser, with what it complained of and asked for."""

    page: object
    faults: list[str] = field(default_factory=list)
    asked: list[str] = field(default_factory=list)


@pytest.fixture(scope="module")
def browser() -> Iterator[object]:
    from playwright.sync_api import sync_playwright

    with sync_playwright() as play:
        opened = play.chromium.launch(executable_path=CHROMIUM, args=["--no-sandbox"])
        yield opened
        opened.close()


def open_report(browser: object, path: Path, *, part: str = "", **how: object) -> Opened:
    opened = Opened(browser.new_page(viewport={"width": 1280, "height": 800}, **how))
    opened.page.on("console", lambda said: opened.faults.append(said.text) if said.type in ("error", "warning") else None)
    opened.page.on("pageerror", lambda fault: opened.faults.append(str(fault)))
    opened.page.on("request", lambda request: opened.asked.append(request.url))
    opened.page.goto(f"file://{path}{part}")
    opened.page.wait_for_selector("html[data-ready=yes]")
    opened.page.wait_for_selector('[data-list="pages"] .tabulator-row')
    return opened


def column(page: object, name: str) -> list[str]:
    return page.locator(f'[data-list="pages"] .tabulator-row [tabulator-field="{name}"]').all_inner_texts()


@in_browser
def test_lists_filter_search_and_sort(browser: object, ran: Path) -> None:
    verdicts = pd.read_csv(ran / "out" / "pages.csv")
    opened = open_report(browser, ran / "out" / "report.html")
    page = opened.page
    page.locator('[data-verdict="prune"]').click()
    assert set(column(page, "verdict")) == {"prune"}
    told = page.locator('[data-count="pages"]').inner_text()
    assert told == f"{(verdicts['verdict'] == 'prune').sum()} of {len(verdicts)}"
    page.locator('[data-for="pages"][data-field="verdict"]').select_option("")
    page.get_by_label("Search").first.fill("/kit/ seldom-nothing")
    page.locator('[data-list="pages"]', has_text="Nothing fits").wait_for()
    page.get_by_label("Search").first.fill("/kit/")
    assert all("/kit/" in text for text in page.locator('[data-list="pages"] .tabulator-row').all_inner_texts())
    page.get_by_label("Search").first.fill("")
    page.locator('[data-list="pages"] .tabulator-col[tabulator-field="clicks"]').focus()
    page.keyboard.press("Enter")
    shown = [int(text.replace(",", "")) for text in column(page, "clicks")]
    assert shown == sorted(shown, reverse=True)
    assert shown[0] == verdicts["clicks"].max()
    assert opened.faults == []
    assert len(opened.asked) == 1, "the file itself, and nothing else"


@in_browser
def test_one_section_narrows_every_list_and_what_is_shown_goes_to_file_and_clipboard(browser: object, ran: Path, tmp_path: Path) -> None:
    opened = open_report(browser, ran / "out" / "report.html", permissions=["clipboard-read", "clipboard-write"])
    page = opened.page
    for name in ("changes", "queries", "popular"):
        page.evaluate(f"document.getElementById('{'change' if name == 'changes' else name}').scrollIntoView()")
        page.wait_for_selector(f'[data-list="{name}"] .tabulator-row')
    page.locator("[data-shared]").select_option("/rivers/")
    assert all(path.startswith("/rivers/") for path in column(page, "page"))
    with page.expect_download() as waiting:
        page.get_by_role("button", name="Save as CSV: Queries").click()
    waiting.value.save_as(tmp_path / "queries.csv")
    saved = pd.read_csv(tmp_path / "queries.csv")
    pairs = pd.read_csv(ran / "out" / "queries.csv").dropna(subset=["query"])
    first = pairs.sort_values("impressions", ascending=False, kind="stable").drop_duplicates("query").set_index("query")["page"]
    assert saved["page"].str.startswith("/rivers/").all()
    assert ("https://tarnbrook.example" + saved["page"]).tolist() == first.reindex(saved["query"]).tolist()
    clicks = pairs.groupby("query")["clicks"].sum()
    assert saved["clicks"].tolist() == clicks.reindex(saved["query"]).tolist()
    page.get_by_role("button", name="Copy: Popular pages").click()
    page.locator('[aria-label="Copy: Popular pages"]', has_text=re.compile("^Copied$")).wait_for()
    copied = [line.split("\t") for line in page.evaluate("navigator.clipboard.readText()").split("\n")]
    assert copied[0][:4] == ["by", "of", "which", "place"]
    assert {line[4].split("/")[1] for line in copied[1:]} == {"rivers"}
    chart = page.locator('[data-chart="site"] [role=slider]')
    chart.focus()
    page.keyboard.press("Home")
    told = page.locator('[data-chart="site"] figcaption').inner_text()
    assert re.fullmatch(r"Week of \d{4}-\d\d-\d\d: [\d,]+ clicks", told)
    assert chart.get_attribute("aria-valuetext") == told
    assert opened.faults == []


@in_browser
def test_the_first_screen_says_what_the_tables_say(browser: object, ran: Path) -> None:
    page = open_report(browser, ran / "out" / "report.html").page
    assert "None" not in page.locator("#glance").inner_text()
    shown = page.locator("#glance dl").inner_text()
    changes = pd.read_csv(ran / "out" / "changes.csv").query("level == 'site'").set_index("measure")
    for measure in ("clicks", "sessions from search", "conversions"):
        row = changes.loc[measure]
        assert f"{row['recent']:,.0f}" in shown
        proof = "beyond noise" if row["real"] else "no more than usual"
        now, share = f"{row['recent']:,.0f}", f"{row['recent'] / row['reference'] - 1:+.0%}"
        said = re.search(rf"{now}\s+{re.escape(share)} from ([\d,]+), {proof}", shown)
        assert said
        assert int(said[1].replace(",", "")) == pytest.approx(row["reference"], abs=1), measure
    best = pd.read_csv(ran / "out" / "pages.csv").dropna(subset=["gain"]).sort_values(["gain", "page"], ascending=[False, True])
    assert re.sub(r"^https?://[^/]+", "", best["page"].iloc[0]) in page.locator("#glance ol li").first.inner_text()


@in_browser
def test_a_dossier_opens_by_click_and_by_link_and_closes_by_key(browser: object, ran: Path) -> None:
    site = nibbet.open_site(ran)
    first = records(site.verdicts().head(1))[0]
    queries = site.page(first["page"])["queries"]
    site.close()
    path = re.sub(r"^https?://[^/]+", "", first["page"])
    page = open_report(browser, ran / "out" / "report.html").page
    page.locator('[data-list="pages"] a').first.click()
    dossier = page.locator("dialog")
    dossier.wait_for()
    assert page.locator("#dossier-name").inner_text() == path
    text = dossier.inner_text()
    assert first["because"] in text
    assert queries.iloc[0]["query"] in text
    assert "Evidence of the verdict" in text
    shared = page.url
    page.keyboard.press("Escape")
    dossier.wait_for(state="hidden")
    page.wait_for_url(lambda url: "#page=" not in url)
    other = open_report(browser, ran / "out" / "report.html", part=shared[shared.index("#") :])
    assert other.page.locator("#dossier-name").inner_text() == path
    assert other.faults == []


@in_browser
@pytest.mark.parametrize("scheme", ["light", pytest.param("dark", marks=pytest.mark.slow)])
def test_nothing_keeps_anyone_out(browser: object, ran: Path, scheme: str) -> None:
    from axe_playwright_python.sync_playwright import Axe

    page = open_report(browser, ran / "out" / "report.html", color_scheme=scheme).page
    assert [found["id"] for found in Axe().run(page).response["violations"]] == []
    page.locator('[data-list="pages"] a').first.click()
    page.locator("dialog").wait_for()
    assert [found["id"] for found in Axe().run(page).response["violations"]] == []
    page.set_viewport_size({"width": 390, "height": 800})
    page.keyboard.press("Escape")
    assert page.evaluate("document.documentElement.scrollWidth") <= 390, "a phone need not scroll sideways"


@in_browser
def test_hostile_text_stays_text(browser: object, tmp_path: Path) -> None:
    days = pd.date_range("2026-01-01", periods=120).strftime("%Y-%m-%d")
    address = 'https://tarnbrook.example/a"b<i>/'
    search = pd.DataFrame({"date": days, "page": address, "query": HOSTILE, "clicks": 3, "impressions": 40, "position": 4.0})
    crawl = pd.DataFrame({"page": [address], "status": [200], "title": [HOSTILE], "h1": [HOSTILE]})
    site = nibbet.Site(home="https://tarnbrook.example/", search=search, crawl=crawl)
    path = tmp_path / "report.html"
    with Drawing(site) as drawing:
        path.write_text(report(site, drawing), "utf-8")
    site.close()
    opened = open_report(browser, path)
    opened.page.locator('[data-list="pages"] a').first.click()
    opened.page.locator("dialog").wait_for()
    assert HOSTILE.lower() in opened.page.locator("dialog").inner_text().lower()
    assert opened.page.evaluate("window.hit") is None
    assert opened.page.locator("img").count() == 0
    assert opened.faults == []


@pytest.mark.slow
def test_the_report_of_a_large_site_carries_what_matters_and_sums_the_rest(ran: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("nibbet.render.dossiers.MOST_PAGES", 30)
    site = nibbet.open_site(ran)
    with Drawing(site) as drawing:
        text = report(site, drawing)
    pages, verdicts = site.pages(), site.verdicts()
    site.close()
    facts, dossiers = (json.loads(re.search(rf'id="{name}">(.*?)</script>', text, re.S).group(1)) for name in ("facts", "dossiers"))
    assert len(dossiers) == len(facts["lists"]["pages"]["rows"]) == 30
    assert f"The other {len(pages) - 30} have" in text
    acted = verdicts[~verdicts["verdict"].isin(["keep", "watch"])]["page"].head(30)
    assert all(page.split(".example")[1] in dossiers for page in acted)
    one = next(iter(dossiers.values()))
    assert sum(one["weeks"]) > 0
