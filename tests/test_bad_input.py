"""What cannot be used gets one clear message and exit 2, or loads with a note; never a traceback, never silence."""

from __future__ import annotations

import gzip
import io
import json
import zipfile
from collections.abc import Callable
from pathlib import Path

import pytest
import zstandard

from nibbet.cli.main import main

HEAD = "date,page,query,clicks,impressions,position\n"
ROW = "2026-10-{day:02},/a/,canoe,{n},90,3.5\n"
GOOD = HEAD + "".join(ROW.format(day=day, n=day % 7) for day in range(1, 31))
SITE = '[site]\nhome = "https://tarnbrook.example/"\n\n'
SEARCH = '[[source]]\nkind = "search"\nfiles = "search*"\n'


def zipped(members: dict[str, bytes | str]) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, content in members.items():
            archive.writestr(name, content)
    return out.getvalue()


def bomb(size: int = 300) -> bytes:
    """A gzip stream of zeros that grows a thousandfold, `size` MiB in all."""
    return gzip.compress(b"0" * (1 << 20), 9) * size


ENTITIES = (
    '<?xml version="1.0"?><!DOCTYPE u [<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;&a;&a;&a;&a;&a;&a;&a;"><!ENTITY c "&b;&b;&b;&b;&b;&b;&b;&b;&b;&b;">]>'
    "<urlset><url><loc>&c;</loc></url></urlset>"
)
OUTSIDE = '<?xml version="1.0"?><!DOCTYPE u [<!ENTITY x SYSTEM "file:///etc/passwd">]><urlset><url><loc>&x;</loc></url></urlset>'


def with_source(kind: str, name: str, content: str | bytes) -> dict[str, str | bytes]:
    return {"search.csv": GOOD, name: content, "nibbet.toml": f'{SITE}{SEARCH}\n[[source]]\nkind = "{kind}"\nfiles = "{name}"\n'}


#: files (nibbet.toml and search.csv are good unless given; null takes one away) and the words that the message must hold
REFUSED: dict[str, tuple[dict[str, str | bytes | None], list[str]]] = {
    "no settings and no table": (
        {"nibbet.toml": None, "search.csv": "Dear reader,\nthis is a letter\n"},
        ["no table was understood", "search.csv"],
    ),
    "settings not UTF-8": ({"nibbet.toml": b"[site]\nhome = '\xff'"}, ["UTF-8"]),
    "settings not TOML": ({"nibbet.toml": SITE + "[[source\n"}, ["nibbet.toml", "line 4"]),
    "no home": ({"nibbet.toml": "[site]\n" + SEARCH}, ["site.home is missing", "home ="]),
    "home without scheme": ({"nibbet.toml": '[site]\nhome = "tarnbrook.example"\n' + SEARCH}, ["line 2", "whole address"]),
    "unknown table": ({"nibbet.toml": SITE + SEARCH + "[sight]\nx = 1\n"}, ["sight", "Did you mean site"]),
    "unknown key": ({"nibbet.toml": SITE + SEARCH + 'colums = { page = "x" }\n'}, ["line 7", "Did you mean columns"]),
    "bad kind": ({"nibbet.toml": SITE + SEARCH.replace('"search"', '"serch"', 1)}, ["kind", "'serch'"]),
    "word for a flag": ({"nibbet.toml": SITE + SEARCH + '[protect]\nnotices = "perhaps"\n'}, ["line 8", "write true or false"]),
    "bad number": ({"nibbet.toml": SITE + SEARCH + "[windows]\nrecent = -3\n"}, ["recent", "-3"]),
    "bad word for dates": ({"nibbet.toml": SITE + SEARCH + 'dates = "american"\n'}, ["dates", "american"]),
    "period turned round": ({"nibbet.toml": SITE + SEARCH + "period = [2026-10-31, 2026-08-01]\n"}, ["earlier"]),
    "source without files": ({"nibbet.toml": SITE + '[[source]]\nkind = "search"\n'}, ["needs files"]),
    "no source at all": ({"nibbet.toml": SITE}, ["no search data", "nibbet init"]),
    "pattern without files": ({"search.csv": None}, ["search*", "no file"]),
    "unknown language": ({"nibbet.toml": SITE.replace("\n\n", '\nlanguage = "klingon"\n') + SEARCH}, ["klingon", "english"]),
    "column not in the file": ({"nibbet.toml": SITE + SEARCH + 'columns = { clicks = "Clix" }\n'}, ["Clix", "clicks, impressions"]),
    "column not of the kind": ({"nibbet.toml": SITE + SEARCH + 'columns = { klicks = "clicks" }\n'}, ["klicks", "It has: date, page"]),
    "where on no column": ({"nibbet.toml": SITE + SEARCH + 'where = { planet = "mars" }\n'}, ["planet"]),
    "where keeps nothing": ({"nibbet.toml": SITE + SEARCH + 'where = { query = "nothing" }\n'}, ["No search row is left"]),
    "empty file": ({"search.csv": ""}, ["search.csv", "empty"]),
    "only blank lines": ({"search.csv": "\n\n \n"}, ["search.csv", "no rows"]),
    "no header and no sense": ({"search.csv": "2026-10-01,/a/,x,y\n2026-10-02,/a/,x,y\n"}, ["clicks, impressions"]),
    "prose": ({"search.csv": "Dear reader,\nthis is a letter.\nYours\n"}, ["search.csv"]),
    "no impressions": ({"search.csv": "date,page,clicks\n2026-10-01,/a/,3\n"}, ["impressions", "None of them has such values"]),
    "no clicks": ({"search.csv": "date,page,impressions\n2026-10-01,/a/,3\n"}, ["clicks", "None of them has such values"]),
    "neither page nor query": ({"search.csv": "date,clicks,impressions\n2026-10-01,1,3\n"}, ["page or query", "columns = {"]),
    "two columns of one name": (
        {"search.csv": "date,page,clicks,clicks,impressions\n2026-10-01,/a/,1,2,9\n2026-10-02,/a/,0,3,9\n"},
        ['2 columns of different values are headed "clicks"', 'clicks = "#3"'],
    ),
    "a quote that nothing closes": (
        {
            "search.csv": HEAD
            + "".join(f"2026-10-{d:02d},/a/,canoe,1,9,2\n" for d in range(1, 20))
            + '2026-10-20,/a/,"canoe,1,9,2\n2026-10-21,/a/,canoe,1,9,2\n'
        },
        ["search.csv", "a quote opens on line 21"],
    ),
    "several faults at once": (
        {
            "search.csv": "page,clicks,impressions\n/a/,3,90\n",
            "links.csv": "Source,Anchor\n/a/,x\n",
            "nibbet.toml": SITE + SEARCH + '[[source]]\nkind = "links"\nfiles = "links.csv"\n',
        },
        ["period = [", "links.csv", "target"],
    ),
    "no dates and no period": ({"search.csv": "page,clicks,impressions\n/a/,3,90\n/b/,1,20\n"}, ["period = ["]),
    "dates that read two ways": (
        {"search.csv": HEAD + "03/04/2026,/a/,canoe,1,9,2\n05/06/2026,/a/,canoe,1,9,2\n"},
        ["03/04/2026", 'dates = "day first"'],
    ),
    "no row below the header": ({"search.csv": HEAD}, ["search.csv"]),
    "all rows unreadable": ({"search.csv": HEAD + "2026-10-01,/a/,canoe,many,9,2\n2026-10-02,/a/,canoe,few,9,2\n"}, ["clicks"]),
    "another site": ({"search.csv": GOOD.replace("/a/", "https://elsewhere.example/a/")}, ["No search row is left", "home"]),
    "picture": ({"search.csv": b"\x89PNG\r\n\x1a\n\0\0\0\rIHDR\0\0\1\0\0\0\1\0"}, ["search.csv", "not a text table"]),
    "damaged gzip": ({"search.csv": None, "search.csv.gz": b"\x1f\x8b\x08\0broken"}, ["search.csv.gz", "again"]),
    "cut gzip": ({"search.csv": None, "search.csv.gz": gzip.compress(GOOD.encode())[:-30]}, ["search.csv.gz", "again"]),
    "gzip that is none": ({"search.csv": None, "search.csv.gz": GOOD}, ["search.csv.gz", "again"]),
    "damaged zstd": ({"search.csv": None, "search.csv.zst": b"\x28\xb5\x2f\xfd broken"}, ["search.csv.zst", "again"]),
    "cut zstd": ({"search.csv": None, "search.csv.zst": zstandard.compress(GOOD.encode())[:-20]}, ["search.csv.zst"]),
    "damaged zip": ({"search.csv": None, "search.zip": b"PK\x03\x04 broken"}, ["search.zip", "again"]),
    "zip without a table": ({"search.csv": None, "search.zip": zipped({"readme.md": "x"})}, ["search.zip", "no table"]),
    "zip with a key": (
        {"search.csv": None, "search.zip": zipped({"a.csv": GOOD}).replace(b"\x00\x00\x08\x00", b"\x01\x00\x08\x00")},
        ["search.zip"],
    ),
    "member outside the archive": ({"search.csv": None, "search.zip": zipped({"../evil.csv": GOOD})}, ["../evil.csv", "outside"]),
    "member at the root": ({"search.csv": None, "search.zip": zipped({"/etc/evil.csv": GOOD})}, ["evil.csv", "outside"]),
    "member by backslash": ({"search.csv": None, "search.zip": zipped({"..\\evil.csv": GOOD})}, ["evil.csv", "outside"]),
    "gzip bomb": ({"search.csv": None, "search.csv.gz": bomb()}, ["grows beyond", "[limits]"]),
    "zip bomb": ({"search.csv": None, "search.zip": zipped({"a.csv": b"0" * (200 << 20)})}, ["grows beyond", "[limits]"]),
    "no workbook": ({"search.csv": None, "search.xlsx": "PK\x03\x04" + GOOD}, ["search.xlsx", "workbook"]),
    "workbook in XML": ({"search.csv": None, "search.xls": '<?xml version="1.0"?><Workbook/>'}, ["search.xls", "as XLSX"]),
    "empty workbook": ({"search.csv": None, "search.xlsx": zipped({"[Content_Types].xml": "<x/>"})}, ["search.xlsx", "workbook"]),
    "sheet that is not there": ({"nibbet.toml": SITE + SEARCH + 'sheet = "Data"\n'}, ["no filled sheet or table", "Data"]),
    "no Parquet": ({"search.csv": None, "search.parquet": GOOD}, ["search.parquet", "again"]),
    "no JSON": ({"search.csv": None, "search.jsonl": "{not json}\n{neither}\n"}, ["search.jsonl"]),
    "entity bomb": (with_source("sitemap", "sitemap.xml", ENTITIES), ["sitemap.xml", "never expanded"]),
    "entity from outside": (with_source("sitemap", "sitemap.xml", OUTSIDE), ["sitemap.xml", "never expanded"]),
    "damaged XML": (with_source("sitemap", "sitemap.xml", "<urlset><url>"), ["sitemap.xml", "damaged"]),
    "XML that is no sitemap": (with_source("sitemap", "sitemap.xml", "<?xml version='1.0'?><rss><item/></rss>"), ["no sitemap"]),
    "links without targets": (with_source("links", "links.csv", "Source,Anchor\n/a/,x\n/b/,y\n"), ["links.csv", "target"]),
    "landings without sessions": (
        with_source("landings", "visits.csv", "date,page,channel\n2026-10-01,/a/,direct\n"),
        ["visits.csv", "sessions"],
    ),
    "demand without volume": (with_source("demand", "demand.csv", "query,month\ncanoe,2026-10\nkayak,2026-10\n"), ["demand.csv", "volume"]),
    "file that cannot be read": ({"search.csv": None, "search": None, "nibbet.toml": SITE + SEARCH.replace("search*", ".")}, ["no file"]),
}


def laid(folder: Path, files: dict[str, str | bytes | None]) -> Path:
    for name, content in {"nibbet.toml": SITE + SEARCH, "search.csv": GOOD, **files}.items():
        if content is not None:
            (folder / name).write_bytes(content.encode() if isinstance(content, str) else content)
    return folder


@pytest.mark.parametrize("case", REFUSED)
def test_what_cannot_be_used_is_refused_with_the_mend(case: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    files, words = REFUSED[case]
    before = {path.name for path in laid(tmp_path, files).iterdir()}
    assert main(["run", str(tmp_path), "-q"]) == 2
    shown = capsys.readouterr()
    assert shown.out == ""
    assert "Traceback" not in shown.err
    assert len(shown.err) < 1500
    for word in words:
        assert word in shown.err, shown.err
    assert {path.name for path in tmp_path.iterdir()} - {".nibbet"} == before, "nothing half-written"
    assert not [*tmp_path.glob(".nibbet/partial-*")]
    assert not (tmp_path.parent / "evil.csv").exists()


def account(folder: Path, capsys: pytest.CaptureFixture[str]) -> dict[str, object]:
    code = main(["load", str(folder), "--format", "json", "-q"])
    shown = capsys.readouterr()
    assert code == 0, shown.err
    return json.loads(shown.out)  # type: ignore[no-any-return]


#: content of search.csv that loads, and the reason or note that says what was odd
LOADED: dict[str, tuple[str | bytes, str, int]] = {
    "one unreadable number": (GOOD.replace(",3,90,", ",three,90,", 1), "unreadable clicks", 1),
    "a fraction of a click": (GOOD.replace(",3,90,", ",3.5,90,", 1), "unreadable clicks", 1),
    "an impossible date": (GOOD.replace("2026-10-03", "2026-13-45", 1), "unreadable date", 1),
    "rows without an address": (GOOD.replace("2026-10-04,/a/", "2026-10-04,", 1), "no address", 1),
    "a placeholder for the address": (GOOD.replace("2026-10-04,/a/", "2026-10-04,(unknown)", 1), "no address", 1),
    "something that is no address": (GOOD.replace("2026-10-04,/a/", "2026-10-04,javascript:alert(1)", 1), "not an address", 1),
    "another host": (GOOD.replace("2026-10-04,/a/", "2026-10-04,https://x.example/a/", 1), "other host: x.example", 1),
    "a total row": (GOOD + ",Total,,90,2700,\n", "total row", 1),
    "a footer": (GOOD + "end of export\n", "not a data row", 1),
}


@pytest.mark.parametrize("case", LOADED)
def test_odd_rows_are_set_aside_with_a_reason(case: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    content, reason, rows = LOADED[case]
    laid(tmp_path, {"search.csv": content})
    gone = account(tmp_path, capsys)["sources"][0]["set_aside"]  # type: ignore[index]
    assert {one["reason"]: one["rows"] for one in gone}[reason] == rows


@pytest.mark.parametrize(("content", "clicks"), [
    (GOOD.replace(",3,90,", ",-,90,", 1), -3), (GOOD.replace(",3,90,", ",<10,90,", 1), -3), (GOOD.replace("canoe", "x" * 10_000_000, 1), 0),
    (GOOD.replace("canoe", '"a ""quoted"", and\nbroken query"', 1), 0), (GOOD.replace("canoe", "\x1b[31mred\x07", 1), 0), (GOOD.replace("canoe", "'; DROP TABLE search; --", 1), 0),
])  # fmt: skip
def test_odd_cells_load(content: str, clicks: int, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    laid(tmp_path, {"search.csv": content})
    found = account(tmp_path, capsys)
    assert found["sources"][0]["measures"]["clicks"]["ledger"] == sum(day % 7 for day in range(1, 31)) + clicks  # type: ignore[index]
    assert ("thresholded" in {note["code"] for note in found["notes"]}) == ("<10" in content)  # type: ignore[attr-defined]


def test_escape_codes_never_reach_the_terminal(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    laid(tmp_path, {"search.csv": GOOD.replace("canoe", "\x1b[31mred\x07")})
    assert main(["page", "/a/", "--site", str(tmp_path), "-q"]) == 0
    shown = capsys.readouterr()
    assert "red" in shown.out
    assert "\x1b" not in shown.out + shown.err


def test_a_doubtful_column_is_named_with_the_line_to_paste(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    laid(tmp_path, {"search.csv": GOOD.replace("page,query", "wohin,query")})
    note = next(one["text"] for one in account(tmp_path, capsys)["notes"] if one["code"] == "doubtful_column")  # type: ignore[union-attr,attr-defined]
    assert 'columns = { page = "wohin" }' in note


@pytest.mark.parametrize("damage", [lambda f: (f / "search.csv").unlink(), lambda f: (f / "search.csv").write_text("a letter\n")])
def test_init_says_what_it_did_not_understand(damage: Callable[[Path], object], tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    laid(tmp_path, {"nibbet.toml": None})
    damage(tmp_path)
    assert main(["init", str(tmp_path)]) == 2
    assert "no table was understood" in capsys.readouterr().err
