"""One truth written in every habit of exports loads to the same ledger, to the last digit."""

from __future__ import annotations

import gzip
import io
import tarfile
import zipfile
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pandas as pd
import polars as pl
import pyarrow as pa
import pytest
import zstandard
from hypothesis import Phase, given, settings
from hypothesis import strategies as st

import nibbet
from nibbet.cli.init import write_settings
from nibbet.config import make_config
from nibbet.core.encodings import legacy_encoding

HOME = "https://tarnbrook.example/"
PATHS = ["/", "/rivers/elver/", "/kit/dry-bag/", "/über-uns/"]


def truth() -> pd.DataFrame:
    rng = np.random.default_rng(11)
    rows = [
        (day, path, f"{word} {path.strip('/').split('/')[-1] or 'tarnbrook'}".replace("ü", "ü"))
        for day in pd.date_range("2026-09-15", "2026-10-31")
        for path in PATHS
        for word in ("canoe", "größe")
    ]
    table = pd.DataFrame(rows, columns=["date", "path", "query"])
    table["impressions"] = rng.integers(5, 60, len(table)) * 100
    table["clicks"] = rng.integers(0, 30, len(table))
    table["position"] = rng.integers(4, 40, len(table)) / 4
    return table


TRUTH = truth()


def frame(**changes: object) -> pd.DataFrame:
    """The truth as a plain export; changes replace or add columns."""
    columns = {
        "Date": TRUTH["date"].dt.strftime("%Y-%m-%d"),
        "Page": HOME[:-1] + TRUTH["path"],
        "Query": TRUTH["query"],
        "Clicks": TRUTH["clicks"],
        "Impressions": TRUTH["impressions"],
        "Position": TRUTH["position"],
    }
    return pd.DataFrame({**columns, **changes})


def ledger(site: nibbet.Site) -> pd.DataFrame:
    pages = site.ledger()[["page", "clicks", "impressions", "ctr", "position", "clicks_long"]]
    named = site.sql("SELECT page, count(DISTINCT query) AS queries FROM search WHERE page IS NOT NULL GROUP BY page ORDER BY page")
    pages = pages.merge(named, on="page", how="left")
    site.close()
    return pages


def load(folder: Path, files: str | list[str] = "search*", **more: object) -> pd.DataFrame:
    config = make_config({"site": {"home": HOME}, "source": [{"kind": "search", "files": files, **more}]})
    return ledger(nibbet.Site(config=config, root=folder))


@pytest.fixture(scope="module")
def expected() -> pd.DataFrame:
    pages = ledger(nibbet.Site(home=HOME, search=frame()))
    assert pages["clicks"].sum() == TRUTH["clicks"].sum()
    assert len(pages) == 4
    return pages


def text(table: pd.DataFrame, **how: object) -> str:
    return table.to_csv(index=False, **how)  # type: ignore[call-overload,no-any-return]


def put(folder: Path, content: str | bytes, name: str = "search.csv") -> None:
    (folder / name).write_bytes(content.encode() if isinstance(content, str) else content)


def grouped(mark: str) -> pd.Series:
    return TRUTH["impressions"].map(lambda n: f"{n:,}".replace(",", mark))


def comma(values: pd.Series) -> pd.Series:
    return values.astype(str).str.replace(".", ",")


def dates(form: str) -> pd.Series:
    return TRUTH["date"].dt.strftime(form)


def zipped(members: dict[str, str]) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, content in members.items():
            archive.writestr(name, content)
    return out.getvalue()


def tarred(members: dict[str, str]) -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w") as archive:
        for name, content in members.items():
            member = tarfile.TarInfo(name)
            member.size = len(content.encode())
            archive.addfile(member, io.BytesIO(content.encode()))
    return out.getvalue()


def workbook(folder: Path, *, sheets: dict[str, pd.DataFrame], name: str = "search.xlsx") -> None:
    with pd.ExcelWriter(folder / name, engine="xlsxwriter") as book:
        for title, table in sheets.items():
            table.to_excel(book, sheet_name=title, index=False)


def open_document(table: pd.DataFrame) -> bytes:
    def cell(value: object) -> str:
        if isinstance(value, (int, float, np.number)):
            return f'<table:table-cell office:value-type="float" office:value="{value}"><text:p>{value}</text:p></table:table-cell>'
        return f'<table:table-cell office:value-type="string"><text:p>{value}</text:p></table:table-cell>'

    rows = [table.columns.tolist(), *table.to_numpy(dtype=object).tolist()]
    body = "".join("<table:table-row>" + "".join(cell(v) for v in row) + "</table:table-row>" for row in rows)
    spaces = " ".join(f'xmlns:{n}="urn:oasis:names:tc:opendocument:xmlns:{n}:1.0"' for n in ("office", "table", "text"))
    content = f'<?xml version="1.0"?><office:document-content {spaces}><office:body><office:spreadsheet><table:table table:name="S">{body}</table:table></office:spreadsheet></office:body></office:document-content>'
    kind = "application/vnd.oasis.opendocument.spreadsheet"
    space = "urn:oasis:names:tc:opendocument:xmlns:manifest:1.0"
    entry = f'<manifest:file-entry manifest:full-path="/" manifest:media-type="{kind}"/>'
    manifest = f'<?xml version="1.0"?><manifest:manifest xmlns:manifest="{space}">{entry}</manifest:manifest>'
    return zipped({"mimetype": kind, "META-INF/manifest.xml": manifest, "content.xml": content})


MONTHS = dict(enumerate("Januar Februar März April Mai Juni Juli August September Oktober November Dezember".split(), 1))
GERMAN = TRUTH["date"].map(lambda d: f"{d.day}. {MONTHS[d.month]} {d.year}")
SERIAL = (TRUTH["date"] - pd.Timestamp("1899-12-30")).dt.days

WAYS: dict[str, Callable[[Path], object]] = {
    "comma": lambda f: put(f, text(frame())),
    "semicolon": lambda f: put(f, text(frame(), sep=";")),
    "tab": lambda f: put(f, text(frame(), sep="\t"), "search.tsv"),
    "pipe": lambda f: put(f, text(frame(), sep="|"), "search.txt"),
    "byte order mark": lambda f: put(f, text(frame()).encode("utf-8-sig")),
    "utf-16": lambda f: put(f, text(frame()).encode("utf-16")),
    "utf-16 big endian": lambda f: put(f, b"\xfe\xff" + text(frame()).encode("utf-16-be")),
    "utf-16 without mark": lambda f: put(f, text(frame()).encode("utf-16-le")),
    "western one-byte": lambda f: put(f, text(frame()).encode("cp1252")),
    "carriage return and line feed": lambda f: put(f, text(frame()).replace("\n", "\r\n")),
    "line ends of two kinds": lambda f: put(f, "# Search\n# 20250701-20261031\n" + text(frame()).replace("\n", "\r\n")),
    "carriage return": lambda f: put(f, text(frame()).replace("\n", "\r")),
    "all quoted": lambda f: put(f, text(frame(), quoting=1)),
    "newline in a cell": lambda f: put(f, text(frame(Note='say "no",\nthen yes'))),
    "gzip": lambda f: put(f, gzip.compress(text(frame()).encode()), "search.csv.gz"),
    "zip": lambda f: put(f, zipped({"export/table.csv": text(frame())}), "search.zip"),
    "zip of parts": lambda f: put(
        f, zipped({"a.csv": text(frame()[:100]), "b.csv": text(frame()[100:]), "__MACOSX/._a.csv": "x"}), "search.zip"
    ),
    "zstd": lambda f: put(f, zstandard.compress(text(frame()).encode()), "search.csv.zst"),
    "workbook": lambda f: workbook(f, sheets={"S": frame()}),
    "workbook with dates": lambda f: workbook(f, sheets={"S": frame(Date=TRUTH["date"])}),
    "workbook of several sheets": lambda f: workbook(
        f, sheets={"About": pd.DataFrame({"Made": ["by hand"], "On": ["a day"]}), "Data": frame()}
    ),
    "HTML under the name of a workbook": lambda f: put(f, f"<html><body>{frame().to_html(index=False)}</body></html>", "search.xls"),
    "text under the name of a workbook": lambda f: put(f, text(frame(), sep="\t").encode("utf-16"), "search.xls"),
    "archive of Unix": lambda f: put(f, gzip.compress(tarred({"./export/table.csv": text(frame())})), "search.tar.gz"),
    "open document": lambda f: put(f, open_document(frame()), "search.ods"),
    "parquet": lambda f: frame(Date=TRUTH["date"]).to_parquet(f / "search.parquet"),
    "json lines": lambda f: put(f, frame().to_json(orient="records", lines=True, force_ascii=False), "search.jsonl"),
    "json lines, gzip": lambda f: put(f, gzip.compress(frame().to_json(orient="records", lines=True).encode()), "search.jsonl.gz"),
    "decimal comma": lambda f: put(f, text(frame(Position=comma(TRUTH["position"])), sep=";")),
    "decimal comma, quoted": lambda f: put(f, text(frame(Position=comma(TRUTH["position"])))),
    "thousands by comma": lambda f: put(f, text(frame(Impressions=grouped(",")))),
    "thousands by point": lambda f: put(f, text(frame(Impressions=grouped("."), Position=comma(TRUTH["position"])), sep=";")),
    "thousands by blank": lambda f: put(f, text(frame(Impressions=grouped(" ")))),
    "thousands by hard blank": lambda f: put(f, text(frame(Impressions=grouped("\u00a0")))),
    "thousands by thin blank": lambda f: put(f, text(frame(Impressions=grouped("\u202f")))),
    "thousands by apostrophe": lambda f: put(f, text(frame(Impressions=grouped("'")))),
    "scaled numbers": lambda f: put(f, text(frame(Impressions=TRUTH["impressions"].map(lambda n: f"{n / 1000:.1f}K")))),
    "share column beside": lambda f: put(f, text(frame(CTR=(TRUTH["clicks"] / TRUTH["impressions"]).map("{:.2%}".format)))),
    "day.month.year": lambda f: put(f, text(frame(Date=dates("%d.%m.%Y")))),
    "day/month/year": lambda f: put(f, text(frame(Date=dates("%d/%m/%Y")))),
    "month/day/year": lambda f: put(f, text(frame(Date=dates("%m/%d/%Y")))),
    "day-month-year": lambda f: put(f, text(frame(Date=dates("%d-%m-%Y")))),
    "two-digit year": lambda f: put(f, text(frame(Date=dates("%d.%m.%y")))),
    "year/month/day": lambda f: put(f, text(frame(Date=dates("%Y/%m/%d")))),
    "digits only": lambda f: put(f, text(frame(Date=dates("%Y%m%d")))),
    "month name": lambda f: put(f, text(frame(Date=dates("%d %b %Y")))),
    "month name first": lambda f: put(f, text(frame(Date=dates("%b %d, %Y")))),
    "month name in German": lambda f: put(f, text(frame(Date=GERMAN))),
    "serial days": lambda f: put(f, text(frame(Date=SERIAL))),
    "date and time": lambda f: put(f, text(frame(Date=dates("%Y-%m-%dT00:00:00Z")))),
    "Japanese dates": lambda f: put(f, text(frame(Date=dates("%Y年%m月%d日")))),
    "comments before": lambda f: put(f, "# Export\n# 2026-09-15 to 2026-10-31\n\n" + text(frame())),
    "title before": lambda f: put(f, "Search report\nAll pages,,,\n\n" + text(frame())),
    "total row": lambda f: put(f, text(frame()) + f",Total,,{TRUTH['clicks'].sum()},{TRUTH['impressions'].sum()},\n"),
    "total row first": lambda f: put(
        f, text(frame()).replace("\n", f"\n,Summe,,{TRUTH['clicks'].sum()},{TRUTH['impressions'].sum()},\n", 1)
    ),
    "notes after": lambda f: put(f, text(frame()) + "\nMade on 2026-11-01\n"),
    "blank lines between": lambda f: put(f, text(frame()).replace("\n", "\n\n")),
    "French headers": lambda f: put(
        f, text(frame().set_axis(["Jour", "Adresse de la page", "Requête", "Clics", "Affichages", "Position moyenne"], axis=1))
    ),
    "Spanish headers": lambda f: put(
        f, text(frame().set_axis(["Fecha", "Página", "Consulta", "Clics", "Impresiones", "Posición media"], axis=1))
    ),
    "Japanese headers": lambda f: put(
        f, text(frame().set_axis(["日付", "ページ", "検索クエリ", "クリック数", "表示回数", "掲載順位"], axis=1))
    ),
    "capital headers with underscores": lambda f: put(
        f, text(frame().set_axis(["EVENT_DATE", "PAGE_URL", "SEARCH_TERM", "TOTAL_CLICKS", "TOTAL_IMPRESSIONS", "AVG_POSITION"], axis=1))
    ),
    "other order, more columns": lambda f: put(
        f, text(frame(Country="xyz", Comment="ok")[["Comment", "Position", "Country", "Impressions", "Page", "Clicks", "Query", "Date"]])
    ),
    "another scheme and www": lambda f: put(f, text(frame(Page="http://www.tarnbrook.example" + TRUTH["path"]))),
    "links as formulas": lambda f: put(
        f, text(frame(Page='=HYPERLINK("' + HOME[:-1] + TRUTH["path"] + '";"' + TRUTH["path"].str.strip("/") + '")'))
    ),
    "paths without a slash": lambda f: put(f, text(frame(Page=TRUTH["path"].str.lstrip("/").replace("", "/")))),
    "paths only": lambda f: put(f, text(frame(Page=TRUTH["path"]))),
    "encoded paths, capital host": lambda f: put(
        f, text(frame(Page="HTTPS://TARNBROOK.example:443" + TRUTH["path"].str.replace("ü", "%c3%bc")))
    ),
    "tracking and fragments": lambda f: put(
        f, text(frame(Page=HOME[:-1] + TRUTH["path"] + np.where(TRUTH.index % 2, "?utm_source=a", "#part")))
    ),
    "queries in capitals, blanks doubled": lambda f: put(f, text(frame(Query="  " + TRUTH["query"].str.upper().str.replace(" ", "  ")))),
    "three parts": lambda f: [put(f, text(frame()[a:b]), f"search-{a:03}.csv") for a, b in ((0, 90), (90, 300), (300, 400))],
    "parts of other habits": lambda f: [
        put(f, text(frame()[:100])),
        put(f, text(frame(Date=dates("%d.%m.%Y"))[100:], sep=";"), "search2.csv"),
    ],
    "the same file twice": lambda f: [put(f, text(frame())), put(f, text(frame()), "search again.csv")],
    "days exported twice": lambda f: [put(f, text(frame()[:250])), put(f, text(frame()[150:]), "search2.csv")],
    "days exported twice, older incomplete": lambda f: [
        put(
            f,
            text(
                frame(Clicks=TRUTH["clicks"].where(TRUTH.index < 240, 0), Impressions=TRUTH["impressions"].where(TRUTH.index < 240, 1))[
                    :250
                ]
            ),
        ),
        put(f, text(frame()[150:]), "search2.csv"),
    ],
}


@pytest.mark.parametrize("way", WAYS, ids=str)
def test_every_habit_gives_the_same_ledger(way: str, tmp_path: Path, expected: pd.DataFrame) -> None:
    WAYS[way](tmp_path)
    pd.testing.assert_frame_equal(load(tmp_path), expected, check_exact=True)


LATER = {
    "years of two digits": {"Date": dates("%d.%m.%y")},
    "another form of days": {"Date": dates("%Y-%m-%d")},
    "times": {"Date": dates("%d.%m.%Y 00:00")},
    "thousands by point": {"Impressions": grouped(".")},
    "a scale": {"Impressions": TRUTH["impressions"].map(lambda n: f"{n / 1000:.1f}K".replace(".", ","))},
}


@pytest.mark.parametrize("habit", LATER)
def test_what_only_later_rows_show_is_read_as_they_say(
    habit: str, tmp_path: Path, expected: pd.DataFrame, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("nibbet.sources.sheets.SAMPLE_ROWS", 20)
    plain = {"Date": dates("%d.%m.%Y"), "Position": comma(TRUTH["position"])}
    put(tmp_path, text(pd.concat([frame(**plain)[:200], frame(**{**plain, **LATER[habit]})[200:]]), sep=";"))
    pd.testing.assert_frame_equal(load(tmp_path), expected, check_exact=True)


@pytest.mark.parametrize("form", ["%d/%m/%Y", "%m/%d/%Y"])
def test_the_end_of_a_long_file_tells_the_order_of_its_days(
    form: str, tmp_path: Path, expected: pd.DataFrame, monkeypatch: pytest.MonkeyPatch
) -> None:
    def never(*_: object) -> None:
        raise AssertionError("read twice, as text")

    for name, value in (
        ("files.HEAD_CHARACTERS", 900),
        ("sheets.HEAD_CHARACTERS", 900),
        ("files.TAIL_BYTES", 900),
        ("clean._as_text", never),
    ):
        monkeypatch.setattr(f"nibbet.sources.{name}", value)
    order = TRUTH["date"].dt.day.argsort(kind="stable")  # the head shows no day beyond the first
    put(tmp_path, text(frame(Date=dates(form)).iloc[order]) + "Total,,,1,1,\n")
    pd.testing.assert_frame_equal(load(tmp_path), expected, check_exact=True)


@pytest.mark.parametrize("into", [pl.from_pandas, pa.Table.from_pandas, lambda t: t], ids=["polars", "arrow", "pandas"])
def test_frames_give_the_same_ledger(into: Callable[[pd.DataFrame], object], expected: pd.DataFrame) -> None:
    pd.testing.assert_frame_equal(ledger(nibbet.Site(home=HOME, search=into(frame(Date=TRUTH["date"])))), expected, check_exact=True)


def test_headers_that_say_nothing_are_settled_by_one_line(tmp_path: Path, expected: pd.DataFrame) -> None:
    put(tmp_path, text(frame().set_axis(["aa", "bb", "cc", "dd", "ee", "ff"], axis=1)))
    pd.testing.assert_frame_equal(load(tmp_path), expected, check_exact=True)  # every column shows by its values
    put(tmp_path, text(frame(other=TRUTH["clicks"] // 2).set_axis(["aa", "bb", "cc", "dd", "ee", "ff", "gg"], axis=1)))
    with pytest.raises(nibbet.MissingColumnError, match=r'columns = \{ clicks = "dd"'):  # three counts, any of which may be clicks
        load(tmp_path)
    found = load(tmp_path, columns={"clicks": "dd", "impressions": "#5"})
    pd.testing.assert_frame_equal(found, expected, check_exact=True)


def test_a_first_column_of_row_names_needs_no_header(tmp_path: Path, expected: pd.DataFrame) -> None:
    head, *rows = text(frame()).splitlines()
    put(tmp_path, "\n".join([head, *(f"{number},{row}" for number, row in enumerate(rows, 1))]) + "\n")
    pd.testing.assert_frame_equal(load(tmp_path), expected, check_exact=True)
    put(tmp_path, "\n".join([head, *(f"{row}," for row in rows)]) + "\n")  # a separator at the end is no such column
    pd.testing.assert_frame_equal(load(tmp_path), expected, check_exact=True)


@settings(max_examples=6, deadline=None, phases=[Phase.explicit, Phase.reuse, Phase.generate])
@given(st.lists(st.integers(0, 3), min_size=len(TRUTH), max_size=len(TRUTH)), st.randoms(use_true_random=False), st.integers(0, 3))
@pytest.mark.slow
def test_any_split_order_and_spelling_gives_the_same_ledger(
    tmp_path_factory: pytest.TempPathFactory, parts: list[int], chance: object, spelling: int
) -> None:
    folder = tmp_path_factory.mktemp("split")
    prefix = ["https://tarnbrook.example", "http://www.tarnbrook.example", "", "https://TARNBROOK.example:443"][spelling]
    table = frame(Page=prefix + TRUTH["path"]).assign(part=parts)
    order = list(range(len(table)))
    chance.shuffle(order)  # type: ignore[attr-defined]
    for part, rows in table.iloc[order].groupby("part"):
        put(folder, text(rows.drop(columns="part")), f"search-{part}.csv")
    pd.testing.assert_frame_equal(load(folder), ledger(nibbet.Site(home=HOME, search=frame())), check_exact=True)


def day(frame: pd.DataFrame, **more: object) -> dict[str, object]:
    return {"search": frame, **more}


def ledger_clicks(folder: Path, *sources: dict[str, object]) -> tuple[int, set[str]]:
    site = nibbet.Site(config=make_config({"site": {"home": HOME}, "source": [{"kind": "search", **one} for one in sources]}), root=folder)
    account = site.account
    site.close()
    for one in account["sources"]:
        for value in one["measures"].values():
            assert value["read"] == value["ledger"] + value["set_aside"]
    return sum(one["measures"]["clicks"]["ledger"] for one in account["sources"]), {
        gone["reason"] for one in account["sources"] for gone in one["set_aside"]
    }


def test_the_same_traffic_is_never_added_twice(tmp_path: Path) -> None:
    total = int(TRUTH["clicks"].sum())
    by_page = frame().groupby(["Date", "Page"], as_index=False)[["Clicks", "Impressions"]].sum()
    monthly = (
        by_page.assign(Date=by_page["Date"].str[:7] + "-01").groupby(["Date", "Page"], as_index=False)[["Clicks", "Impressions"]].sum()
    )
    undated = by_page.groupby("Page", as_index=False)[["Clicks", "Impressions"]].sum()
    devices = pd.concat(
        [
            by_page.assign(Device="mobile", Clicks=by_page["Clicks"] // 2),
            by_page.assign(Device="desktop", Clicks=by_page["Clicks"] - by_page["Clicks"] // 2),
        ]
    )
    for name, table in {
        "pairs": frame(),
        "pages": by_page,
        "months": monthly,
        "whole": undated,
        "devices": devices,
        "late": by_page[by_page["Date"] >= "2026-10-01"],
        "some": by_page[~by_page["Page"].str.contains("elver")],
    }.items():
        put(tmp_path, text(table), f"{name}.csv")
    period = ["2026-09-15", "2026-10-31"]
    assert ledger_clicks(tmp_path, {"files": "pages.csv"}, {"files": "pairs.csv"}) == (total, {"detail of page rows"})
    assert ledger_clicks(tmp_path, {"files": "months.csv"}) == (total, set())
    assert ledger_clicks(tmp_path, {"files": "late.csv"}, {"files": "months.csv"}) == (total, {"same days in late.csv"})
    assert ledger_clicks(tmp_path, {"files": "pages.csv"}, {"files": "devices.csv"}) == (total, {"same days in pages.csv"})
    assert ledger_clicks(tmp_path, {"files": "some.csv"}, {"files": "whole.csv", "period": period}) == (
        total,
        {"dated rows cover this page"},
    )
    assert ledger_clicks(tmp_path, {"files": "whole.csv", "period": period}) == (total, set())
    with pytest.raises(nibbet.SourceError, match=r"period = \["):
        ledger_clicks(tmp_path, {"files": "whole.csv"})


def test_undated_rows_tell_no_change(tmp_path: Path) -> None:
    put(tmp_path, text(frame().groupby("Page", as_index=False)[["Clicks", "Impressions"]].sum()))
    site = nibbet.Site(
        config=make_config(
            {"site": {"home": HOME}, "source": [{"kind": "search", "files": "search.csv", "period": ["2026-08-03", "2026-10-31"]}]}
        ),
        root=tmp_path,
    )
    pages = site.pages()
    assert pages["clicks"].sum() == TRUTH["clicks"].sum()
    assert pages["change"].isna().all()
    site.close()


def visits(**columns: object) -> pd.DataFrame:
    base = {"Date": dates("%Y-%m-%d"), "Landing page": TRUTH["path"], "Channel": "organic search", "Sessions": TRUTH["clicks"]}
    return pd.DataFrame({**base, **columns})


@pytest.mark.parametrize("each", [10, "0:10", "00:00:10", "10s", "0m 10s"])
def test_two_meanings_of_engagement_stay_apart(each: object) -> None:
    shares = {"Engagement rate": "50%", "Bounce rate": "25%", "Average time per session": each, "New users": 1}
    site = nibbet.Site(home=HOME, search=frame(), landings=visits(**shares))
    measures = next(one for one in site.account["sources"] if one["kind"] == "landings")["measures"]
    engaged = (TRUTH["clicks"] * 0.5).map(lambda v: int(v + 0.5)).sum()
    assert measures["engaged_sessions"]["read"] == engaged
    assert measures["single_page_sessions"]["read"] == (TRUTH["clicks"] * 0.25).map(lambda v: int(v + 0.5)).sum()
    assert measures["engagement_seconds"]["read"] == 10 * TRUTH["clicks"].sum()
    assert "users" not in measures, "new ones are some of them"
    rates = site.ledger()[["engagement_rate", "single_page_rate"]].mean()
    assert rates.round(1).tolist() == [0.5, 0.2] or rates.round(1).tolist() == [0.5, 0.3]
    site.close()
    mirrored = nibbet.Site(home=HOME, search=frame(), landings=visits(**{"Engagement rate": "50%", "Bounce rate": "50%"}))
    pages = mirrored.ledger()
    assert pages["engagement_rate"].notna().any()
    assert pages["single_page_rate"].isna().all(), "what is 1 less the engaged share says nothing of sessions of one page"
    mirrored.close()


def test_revenue_in_another_currency_needs_a_rate(tmp_path: Path) -> None:
    put(tmp_path, text(frame()))
    put(tmp_path, text(visits(Revenue="$1,234.50")), "visits.csv")
    given = {
        "site": {"home": HOME},
        "source": [{"kind": "search", "files": "search.csv"}, {"kind": "landings", "files": "visits.csv", "currency": "USD"}],
        "value": {"currency": "EUR"},
    }
    with pytest.raises(nibbet.SourceError, match="rates = "):
        _ = nibbet.Site(config=make_config(given), root=tmp_path).account
    site = nibbet.Site(config=make_config({**given, "value": {"currency": "EUR", "rates": {"USD": 0.5}}}), root=tmp_path)
    assert site.ledger()["revenue"].sum() == pytest.approx(len(TRUTH) * 617.25)
    site.close()


def test_a_moved_site_is_shown_beside_and_never_summed() -> None:
    old = frame(Page="https://old.example" + TRUTH["path"])
    crawl = pd.DataFrame({"page": ["/river-elver/", "/rivers/elver/"], "status": [301, 200], "redirect_to": ["/rivers/elver/", None]})
    search = pd.concat([frame(), old, frame(Page="/river-elver/")])
    site = nibbet.Site(home=HOME, search=search, crawl=crawl, settings={"site": {"old_hosts": ["old.example"]}})
    pages = site.pages().set_index("page")
    of_page = TRUTH[TRUTH["path"] == "/rivers/elver/"]["clicks"].sum()
    row = pages.loc[HOME + "rivers/elver/"]
    assert row["clicks"] == of_page
    assert row["clicks_moved"] == TRUTH["clicks"].sum() + of_page
    assert row["moved_from"] == HOME + "river-elver/"
    assert pd.isna(pages.loc["https://old.example/kit/dry-bag/", "verdict"])
    assert pages.loc[HOME + "kit/dry-bag/", "moved_from"] == "https://old.example/kit/dry-bag/"
    site.close()


AGENT = "Mozilla/5.0 (Windows NT 10.0; Win64; x64) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/120.0 Safari/537.36"


def hit(path: str, *, status: int = 200, agent: str = AGENT, form: str = "combined") -> str:
    end = f' "-" "{agent}"' if form == "combined" else ""
    return f'10.0.0.1 - - [10/Oct/2026:13:55:36 +0000] "GET {path} HTTP/1.1" {status} 2326{end}'


def test_hits_count_for_the_page_they_mean_however_it_is_spelled_elsewhere(tmp_path: Path) -> None:
    pages = [f"{HOME}{name}/" for name in ("alive", "robots-only", "broken", "slashed")]
    days = pd.date_range("2026-08-01", "2026-10-31").strftime("%Y-%m-%d")
    rows = pd.MultiIndex.from_product([days, pages], names=["date", "page"]).to_frame(index=False)
    put(tmp_path, rows.assign(clicks=2, impressions=40, position=3.0).to_csv(index=False))
    put(tmp_path, "page,status,title\n" + "".join(f"{one},{404 if 'broken' in one else 200},A page\n" for one in pages), "crawl.csv")
    robot = "Seekbot/1.0 (+http://b.example/bot)"
    lines = [hit("/robots-only/", agent=robot), hit("/alive/"), hit("/wanted-by-robots/", agent=robot)]
    lines += [hit("/broken/", status=404)] * 25 + [hit("/slashed", status=404)] * 30 + [hit("/shop/alive.html", status=404)] * 40
    lines += [hit("/alive/?utm_source=letter", status=404)] * 22 + [hit("/slashed/?size=9", status=404)] * 21
    put(tmp_path, "\n".join(lines), "access.log")
    sources = "".join(f'[[source]]\nkind = "{kind}"\nfiles = "{file}"\n' for kind, file in {"search": "search.csv", "crawl": "crawl.csv", "hits": "access.log"}.items())  # fmt: skip
    put(tmp_path, f'[site]\nhome = "{HOME}"\n{sources}', "nibbet.toml")
    with nibbet.open_site(tmp_path) as site:
        hits = site.ledger().set_index("page")["hits"]
        robots = site.sql("SELECT page FROM hits WHERE agent LIKE 'Seekbot%' ORDER BY page NULLS LAST")["page"]
        repairs = site.repairs().set_index("page")
        reasons = site.addresses.set_index("spelling")["reason"]
    assert hits[[pages[0], pages[2]]].tolist() == [23, 25], "a log has paths, the other tables whole addresses"
    assert set(repairs.index[repairs["repair"] == "error"]) & {pages[0], pages[3]} == set(), "no path of a living page is a dead end"
    assert robots.fillna("").tolist() == [pages[1], ""], "what robots alone fetch makes no page"
    assert (reasons["/wanted-by-robots/"], reasons["/slashed"]) == ("known only from robots", "known only from failed hits")
    assert repairs.loc[[f"{HOME}slashed", f"{HOME}shop/alive.html"], "target"].tolist() == [pages[3], pages[0]]


def test_logs_are_found_by_what_they_hold_whatever_they_are_called(tmp_path: Path) -> None:
    put(tmp_path, text(frame()))
    for day, name in (("10/Oct", "access_log"), ("09/Oct", "access.log.1")):
        put(tmp_path, "\n".join([hit("/kit/dry-bag/").replace("10/Oct", day)] * 3), name)
    put(tmp_path, "tents, poles", "catalogue.old")
    fields = "#Version: 1.0\n#Fields: date time cs-method cs-uri-stem cs-uri-query c-ip cs(User-Agent) sc-status\n"
    entries = ["/kit/dry-bag/ -", "/kit/dry-bag utm_source=mail", "/rivers/elver/ -"]
    agent = AGENT.replace(" ", "+")
    put(tmp_path, fields + "".join(f"2026-10-10 10:00:00 GET {one} 203.0.113.9 {agent} 200\n" for one in entries), "u_ex2610.txt")
    put(
        tmp_path,
        "\n".join(["tarnbrook.example:443 " + hit("/kit/dry-bag/"), "elsewhere.example " + hit("/kit/dry-bag/")]),
        "vhosts.log",
    )
    write_settings(tmp_path, HOME, force=False)
    with nibbet.open_site(tmp_path) as site:
        used = {one["kind"] for one in site.account["sources"]}
        hits = site.ledger().set_index("page")["hits"]
    assert used == {"search", "hits"}
    assert hits[HOME + "kit/dry-bag/"] == 6 + 2 + 1, "another host has its own page of that path"
    assert hits[HOME + "rivers/elver/"] == 1


def test_logs_sitemaps_robots_and_links(tmp_path: Path) -> None:
    put(tmp_path, text(frame()))
    lines = [
        hit("/kit/dry-bag"),
        hit("/kit/dry-bag/", form="combined"),
        hit("/style.css"),
        hit("/", agent="GoodBot/1.0 (+http://b.example)"),
        hit("/nowhere/", status=404),
        "no entry",
    ]
    put(tmp_path, gzip.compress("\n".join(lines).encode()), "access.log.gz")
    put(
        tmp_path,
        "\n".join(f'{{"time": "2026-10-10T10:00:00Z", "path": "/kit/dry-bag/", "status": 200, "agent": "{AGENT}"}}' for _ in range(2)),
        "hits.jsonl",
    )
    name = "http://www.sitemaps.org/schemas/sitemap/0.9"
    put(
        tmp_path,
        gzip.compress(
            f'<?xml version="1.0"?><urlset xmlns="{name}"><url><loc>{HOME}kit/dry-bag/</loc></url><url><loc>{HOME}new/</loc></url></urlset>'.encode()
        ),
        "sitemap.xml.gz",
    )
    put(
        tmp_path,
        f'<?xml version="1.0"?><sitemapindex xmlns="{name}"><sitemap><loc>{HOME}sitemap.xml.gz</loc></sitemap></sitemapindex>',
        "sitemap-index.xml",
    )
    put(
        tmp_path,
        "User-agent: *\nDisallow: /kit\nAllow: /kit/dry-bag/$\nDisallow: /rivers/*/\n\nUser-agent: other\nDisallow: /\n",
        "robots.txt",
    )
    put(tmp_path, "Source,Target,Anchor\n/,/kit/dry-bag/,bag\n/rivers/elver/,/kit/dry-bag,bag\n/,https://away.example/,x\n", "links.csv")
    kinds = {
        "search": "search.csv",
        "hits": ["access.log.gz", "hits.jsonl"],
        "sitemap": "sitemap*",
        "robots": "robots.txt",
        "links": "links.csv",
    }
    site = nibbet.Site(
        config=make_config({"site": {"home": HOME}, "source": [{"kind": k, "files": v} for k, v in kinds.items()]}), root=tmp_path
    )
    pages = site.ledger().set_index("page")
    bag = pages.loc[HOME + "kit/dry-bag/"]
    assert (bag["hits"], bag["inlinks"], bag["in_sitemap"], bag["robots_blocked"]) == (4, 2, True, False)
    assert pages.loc[HOME + "rivers/elver/", "robots_blocked"]
    assert HOME + "new/" in pages.index
    assert HOME + "nowhere/" not in pages.index
    reasons = {gone["reason"]: gone["rows"] for one in site.account["sources"] if one["kind"] == "hits" for gone in one["set_aside"]}
    assert reasons == {"no page": 1, "automated client": 1, "known only from failed hits": 1, "not a data row": 1}
    assert any(note["code"] == "sitemap_index" for note in site.account["notes"])
    site.close()


@pytest.mark.slow
def test_the_account_names_each_planted_mess(world: Callable[..., Path]) -> None:
    site = nibbet.open_site(world(7, 400))
    said = {note["code"]: note["text"] for note in site.account["notes"]}
    assert "queries-2026-04.csv.gz holds exactly 40,000 rows" in said["capped"]
    assert "2026-10-31" in said["partial_days"]
    assert "3 lines" in said["preamble"]
    visits = next(one for one in site.account["sources"] if one["kind"] == "landings")
    raw = pd.read_csv(world(7, 400) / "visits" / "landing-pages.csv", sep=";", skiprows=3)
    raw = raw[raw["Einstiegsseite"].str.startswith("/") & (pd.to_datetime(raw["Datum"], format="%d.%m.%Y") <= "2026-10-31")]
    other = raw.loc[raw["Kanal"] != "Organische Suche", "Sitzungen"].sum()
    assert f"{other:,} of {visits['measures']['sessions']['ledger']:,} sessions come from other channels" in said["channels"]
    assert f"{site.addresses['page'].notna().sum():,} spellings stand for {site.ledger().shape[0]:,} pages" in said["spellings"]
    assert {gone["reason"] for gone in visits["set_aside"]} == {"incomplete day", "no address", "total row"}
    site.close()


CHANNELS = [
    ("Organic Search", None, True), ("Organic Social", None, False), ("organic video", None, False), ("Paid Search", None, False), ("Bezahlte Suche", None, False),
    ("Unbezahlte Suche", None, True), ("Recherche naturelle", None, True), ("Recherche payante", None, False), ("Ricerca a pagamento", None, False), ("Pesquisa orgânica", None, True),
    ("Suchmaschinen", None, True), ("Interne Suche", None, False), ("自然検索", None, True), ("有料検索", None, False), ("Direct", None, False), ("Internet", None, False),
    ("Search", "cpc", False), ("Search", "organic", True), (None, "organic", True), ("Letter", "e-mail", False), ("Kanal 7", None, False),
]  # fmt: skip


def test_visits_from_unpaid_search_are_told_by_channel_and_medium() -> None:
    days = pd.date_range("2026-08-01", "2026-10-31").astype(str)
    search = pd.DataFrame({"date": days, "page": HOME + "a/", "clicks": 1, "impressions": 9, "position": 3.0})
    for beside in (False, True):  # a table with channels alone, and one with mediums beside them
        named = {f"/{n}/": one for n, one in enumerate(CHANNELS) if (one[1] is not None) == beside}
        visits = pd.DataFrame([(day, page, one[0], one[1], 2) for page, one in named.items() for day in days])
        visits = visits.set_axis(["date", "page", "channel", "medium", "sessions"], axis=1)
        with nibbet.Site(home=HOME, search=search, landings=visits if beside else visits.drop(columns="medium")) as site:
            organic = site.ledger().set_index("page")["sessions_organic"]
        assert {one: organic[HOME[:-1] + page] > 0 for page, one in named.items()} == {one: one[2] for one in named.values()}


@pytest.mark.parametrize(("place", "line", "reason"), [(15_000, "2026-10-0", "not a data row"), (15_000, f"2026-10-01,{HOME}a/,a, b,1,5,2.0", "more cells than headers"), (29_999, "Made by hand", "not a data row")])  # fmt: skip
def test_rows_of_other_lengths_far_down_are_set_aside(place: int, line: str, reason: str, tmp_path: Path) -> None:
    rows = [f"2026-{8 + n % 3:02d}-{1 + n % 28:02d},{HOME}p{n % 300}/,q {n % 700},{n % 3},{5 + n % 9},2.5" for n in range(30_000)]
    rows[place] = line
    (tmp_path / "search.csv").write_text("date,page,query,clicks,impressions,position\n" + "\n".join(rows) + "\n")
    (tmp_path / "nibbet.toml").write_text(f'[site]\nhome = "{HOME}"\n[[source]]\nkind = "search"\nfiles = "search.csv"\n')
    with nibbet.open_site(tmp_path) as site:
        (source,) = site.account["sources"]
    assert (source["rows_used"], [(one["reason"], one["rows"]) for one in source["set_aside"]]) == (29_999, [(reason, 1)])
    assert source["rows_read"] == 30_000


@pytest.mark.parametrize(("encoding", "lines"), [  # short texts in the encodings of old spreadsheets
    ("cp1252", "Så väljer du rätt hjälm\nVår bästa guide"), ("cp1252", "Kiukaan lämmitys\nKäyttöohje"), ("cp1252", "Où dîner près du château\nÇa marche"),
    ("cp1252", "Año nuevo\nUn baño pequeño"), ("cp1252", "Decoração de São João"), ("cp1252", "Rødgrød med fløde"), ("cp1252", "Båt"),
    ("cp1250", "Jak zrobić żurek\nŹródła wiedzy"), ("cp1250", "Žlutý kůň přes řeku"), ("cp1250", "Hogyan főzzünk gulyást\nŐszi kirándulás"),
    ("cp1254", "Türkiye'nin en güzel şehirleri\nIşık ve gölge"),
    ("mac_roman", "Größe und Länge prüfen\nÜber uns"), ("cp1251", "Как выбрать кухню"), ("cp1253", "Πώς να επιλέξετε κουζίνα"), ("cp932", "梅の育て方 剪定"),
])  # fmt: skip
def test_a_short_text_is_read_in_its_own_encoding(encoding: str, lines: str) -> None:
    text = "\n".join(f"/{number};{line}" for number, line in enumerate(lines.split("\n")))
    assert text.encode(encoding).decode(legacy_encoding(text.encode(encoding))) == text


def test_a_damaged_letter_does_not_spoil_the_others(tmp_path: Path) -> None:
    rows = frame().assign(Query=[f"größe {n}" for n in range(len(TRUTH))]).to_csv(index=False).encode()
    (tmp_path / "search.csv").write_bytes(rows.replace("größe 7,".encode(), b"gr\xf6\xdfe 7,"))
    config = make_config({"site": {"home": HOME}, "source": [{"kind": "search", "files": "search.csv"}]})
    with nibbet.Site(config=config, root=tmp_path) as site:
        assert "größe 8" in set(site.queries()["query"])
        assert "gr\ufffd\ufffde 7" in set(site.queries()["query"])
        assert [note for note in site.account["notes"] if "2 letters are damaged" in note["text"]]


def test_rows_are_chosen_by_value_or_pattern(tmp_path: Path) -> None:
    frame().to_csv(tmp_path / "search.csv", index=False)
    for wanted, paths in (("*/KIT/*", {"kit/dry-bag/"}), ([HOME, "*/rivers/*"], {"", "rivers/elver/"})):
        pages = load(tmp_path, where={"page": wanted})
        assert set(pages.loc[pages["clicks"] > 0, "page"]) == {HOME + path for path in paths}
