"""Output on the terminal: tables that fit, the account, the summary, one page, one query."""

from __future__ import annotations

import json
import shutil
import sys
from numbers import Real
from typing import TYPE_CHECKING, Any, Literal

import pandas as pd
from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from nibbet.core.join.reasons import PAGELESS
from nibbet.core.meanings import FORMAT_OF, SHARES
from nibbet.core.tables import NARROWED
from nibbet.core.verdict import Verdict
from nibbet.render.files import as_csv
from nibbet.render.safe import for_terminal, page_name, path_of

if TYPE_CHECKING:
    from nibbet.core.windows import Windows
    from nibbet.results import Results

#: notes that a summary omits if there are others; `nibbet load` prints all
MINOR = {"preamble", "unused", "left_out", "sheet_left_out"}
#: terminal width below which sentences are printed under their rows
NARROW = 120
#: columns with sentences, and columns with addresses
SENTENCES = ("because", "text", "reason")
ADDRESSES = ("page", "source", "target", "from", "to")
#: colour only supports the word in the cell
TINT: dict[str, str] = {
    Verdict.PRUNE: "red",
    Verdict.CONSOLIDATE: "magenta",
    Verdict.REFRESH: "blue",
    Verdict.EXPAND: "cyan",
    Verdict.WATCH: "",
    Verdict.KEEP: "green",
}


def console() -> Console:
    """Standard output: fitted to a terminal, unbounded and plain when piped."""
    if sys.stdout.isatty():
        return Console(highlight=False)
    return Console(file=sys.stdout, width=10_000, highlight=False, no_color=True, color_system=None)


def show(frame: pd.DataFrame, style: str, *, columns: list[str] | None = None, empty: str = "Nothing to show.") -> None:
    """Prints a frame as table, CSV or JSON. `columns` are those of the table form; CSV and JSON contain all."""
    if style == "csv":
        sys.stdout.write(as_csv(frame))
    elif style == "json":
        sys.stdout.write(as_json(frame))
    elif frame.empty:
        console().print("No row fits. Loosen --where." if frame.attrs.get(NARROWED) else empty)
    else:
        out, shown = console(), frame[columns] if columns else frame
        if sys.stdout.isatty() and "because" in shown and out.width < NARROW:
            _with_sentences_below(out, shown)
        else:
            out.print(grid(shown))


def _with_sentences_below(out: Console, frame: pd.DataFrame) -> None:
    """A table with sentences under their rows, for narrow terminals."""
    table = grid(frame.drop(columns="because"))
    for column in table.columns:
        column.no_wrap = True
    with out.capture() as got:
        out.print(table)
    head, *rows = got.get().splitlines()
    out.print(Text.from_ansi(head))
    for row, sentence in zip(rows, frame["because"], strict=True):
        out.print(Text.from_ansi(row))
        if isinstance(sentence, str):
            out.print(Padding(Text(for_terminal(sentence), style="dim"), (0, 0, 0, 2)))


def as_json(frame: pd.DataFrame) -> str:
    """A list of objects, one per row; nulls are null, dates ISO."""
    return (
        json.dumps(
            json.loads(frame.to_json(orient="records", date_format="iso", date_unit="s", double_precision=6)), indent=1, ensure_ascii=False
        )
        + "\n"
    )


def grid(frame: pd.DataFrame) -> Table:
    """A table on the terminal: numbers right-aligned, addresses without their host, long texts wrapped or shortened in the middle."""
    table = Table(box=None, pad_edge=False, header_style="bold", padding=(0, 2, 0, 0))
    wide = sys.stdout.isatty()
    for name in frame.columns:
        numeric = pd.api.types.is_numeric_dtype(frame[name]) and frame[name].dtype != bool
        fold: Literal["fold", "ellipsis"] = "fold" if name in SENTENCES or not wide else "ellipsis"
        table.add_column(
            name, justify="right" if numeric else "left", overflow=fold, no_wrap=numeric or name in ("verdict", "page", "role", "cause")
        )
    host = _usual_host(frame)
    for row in zip(*(_cells(frame[name], host) for name in frame.columns), strict=True):
        table.add_row(*[Text(cell, style=TINT.get(cell, "")) for cell in row])
    return table


def _usual_host(frame: pd.DataFrame) -> str:
    """Scheme and host of most addresses of a table; other hosts are shown."""
    texts = [frame[name].astype("str") for name in frame.select_dtypes(["object", "str"]) if name not in SENTENCES]
    hosts = pd.concat(texts).str.extract(r"^(https?://[^/\s]+)/", expand=False).dropna() if texts else pd.Series(dtype="str")
    return str(hosts.mode().iloc[0]) if len(hosts) else ""


def _cells(column: pd.Series, host: str) -> list[str]:
    if column.name not in ADDRESSES:
        return [for_terminal(cell_text(value, str(column.name))) for value in column]
    return [for_terminal(shortened(page_name(text, host))) for text in column.astype("str").fillna("")]


def cell_text(value: Any, name: str) -> str:
    """The display of one value: 1,234, 4.2, 12.3%, a date, empty for null."""
    if value is None or value is pd.NA or value is pd.NaT or (isinstance(value, float) and pd.isna(value)):
        return ""
    if isinstance(value, (bool,)) or type(value).__name__ == "bool_":
        return "yes" if value else "no"
    if isinstance(value, pd.Timestamp):
        return f"{value:%Y-%m-%d}"
    is_number = isinstance(value, Real)
    if not is_number:  # whatever its column is called
        return shortened(path_of(str(value))) if name in ADDRESSES else str(value)
    if name == "change_share" and value > 9.995:
        return f"{1 + value:,.0f} times"
    if name in SHARES:
        return f"{value:.1%}"
    if isinstance(value, (int,)) or (
        hasattr(value, "is_integer") and FORMAT_OF.get(name) not in ("second", "first") and float(value).is_integer()
    ):
        return f"{int(value):,}"
    if name == "value" and 0 < abs(float(value)) < 1:
        return f"{value:.2g}" if abs(value) >= 0.001 else "< 0.001"
    return f"{value:.2f}" if FORMAT_OF.get(name) == "second" else f"{value:,.1f}"


def shortened(text: str) -> str:
    """On a terminal, a long address shortened in the middle if it takes two fifths of the width; unchanged elsewhere."""
    if not sys.stdout.isatty():
        return text
    width = min(48, max(20, shutil.get_terminal_size().columns * 2 // 5))
    if len(text) <= width:
        return text
    return text[: width // 2 - 1] + "…" + text[-(width // 2) :]


def show_account(account: dict[str, Any], style: str) -> None:
    """The balance of the join: one row per source and reason, then the shares matched and the notes."""
    rows = account_rows(account)
    if style == "json":
        sys.stdout.write(json.dumps(account, indent=1, ensure_ascii=False) + "\n")
    elif style == "csv":
        sys.stdout.write(as_csv(rows))
    else:
        out = console()
        out.print(grid(condensed(rows)))
        out.print()
        for name, shares in account["matched"].items():
            text = ", ".join(f"{share:.1%} {source.removeprefix('in_')}" for source, share in shares.items() if share is not None)
            out.print(Text(f"{name} found in: {text}"))
        for name, pages in account["unmatched"].items():
            if pages:
                text = ", ".join(f"{path_of(one['page'])} ({next(v for k, v in one.items() if k != 'page'):,})" for one in pages)
                out.print(Text(for_terminal(f"{name.replace('_', ' ')}: {text}")))
        for note in account["notes"]:
            out.print(Text(for_terminal(f"{note['code']}: {note['text']}")))
        if account["missing"]:
            out.print()
        show_missing(out, account["missing"], len(account["missing"]))


#: other hosts that are listed one by one
MOST_HOSTS = 3


def account_rows(account: dict[str, Any]) -> pd.DataFrame:
    """The account as rows: file, kind, fate (used, or why set aside), rows and one column per measure."""
    rows = []
    for one in account["sources"]:
        ledger = {name: value["ledger"] for name, value in one["measures"].items()}
        rows.append({"file": one["file"], "kind": one["kind"], "fate": "used", "rows": one["rows_used"], **ledger})
        rows += [
            {"file": one["file"], "kind": one["kind"], "fate": gone["reason"], "rows": gone["rows"], **gone["measures"]}
            for gone in one["set_aside"]
        ]
    return pd.DataFrame(rows)


def condensed(rows: pd.DataFrame) -> pd.DataFrame:
    """Account rows summed over the files of a kind; files are counted."""
    measures = [name for name in ("clicks", "impressions", "sessions", "conversions", "revenue") if name in rows]
    rows = rows.assign(fate=_few_hosts(rows))
    sums = rows.groupby(["kind", "fate"], sort=False).agg(
        files=("file", "nunique"), rows=("rows", "sum"), **{name: (name, lambda v: v.sum(min_count=1)) for name in measures}
    )
    return sums.reset_index()


def _few_hosts(rows: pd.DataFrame) -> pd.Series:
    """The reasons, with all but the largest of many other hosts combined; links to them are counted together."""
    fate, other = rows["fate"].astype("str"), rows["fate"].astype("str").str.startswith("other host: ")
    fate = fate.mask(other & rows["kind"].eq("links"), "to other sites")
    rank = rows[other].groupby(["kind", "fate"])["rows"].transform("sum").groupby(rows["kind"]).rank(method="dense", ascending=False)
    return fate.mask(other & rank.reindex(rows.index).gt(MOST_HOSTS) & rows["kind"].ne("links"), "other hosts, each with fewer rows")


def show_windows(windows: Windows) -> None:
    """The windows of all figures below."""
    long = f"; long window {windows.long}" if windows.long != windows.recent else ""
    whole = f"; whole {windows.step}s" if windows.step != "day" else ""
    console().print(Text(f"{windows.recent}, {against_text(windows)}{long}{whole}", style="dim"))


def against_text(windows: Windows) -> str:
    """The reference of the recent window, in words."""
    if not windows.reference_known:
        return "no earlier window to compare"
    return f"against {windows.reference} ({'a year earlier' if windows.reference_kind == 'year' else 'the preceding days'})"


def show_missing(out: Console, missing: list[dict[str, Any]], most: int) -> None:
    """What more would tell: what is absent, what it affects, and the export that fills the gap."""
    if not missing:
        return
    out.print(Text("What more would tell", style="bold"))
    for one in missing[:most]:
        out.print(
            Text(
                for_terminal(
                    f"  {one['what']}: {one['because']} ({one['pages']:,} page{'s' * (one['pages'] != 1)}, {one['clicks']:,} click{'s' * (one['clicks'] != 1)}). Add: {one['export']}"
                )
            )
        )
    if len(missing) > most:
        out.print(Text(f"  and {len(missing) - most} more: nibbet load", style="dim"))


#: share of the rows of a source from which rows set aside are listed in the summary of a run; `nibbet load` prints all
WORTH_A_LINE = 0.1


def summary(site: Results, folder: str, seconds: float) -> None:
    """After a run, in under 30 lines: what was read, what did not match, the verdicts, the best actions, where the files are."""
    from nibbet.core.common_falls import fell_together

    account, verdicts, out = site.account, site.verdicts(), console()
    w, totals = site.windows, condensed(account_rows(account))
    out.print(
        Text(
            f"{site.config.site.home}  as of {w.as_of}, recent {w.recent}, {against_text(w)}",
            style="bold",
        )
    )
    plain = []
    for kind, rows in totals.groupby("kind", sort=False):
        total = rows["rows"].sum()
        used = rows.loc[rows["fate"] == "used", "rows"].sum()
        if kind in ("search", "landings") or total - used >= WORTH_A_LINE * total:
            out.print(Text(_read_line(str(kind), rows)))
        else:
            plain.append(f"{kind} {used:,}" + (f" of {total:,}" if used < total else ""))
    if plain:
        out.print(Text(f"  {', '.join(plain)} rows used"))
    for note in sorted(account["notes"], key=lambda note: note["code"] in MINOR)[:5]:
        out.print(Text("  " + for_terminal(note["text"]), style="dim"))
    out.print()
    counts = verdicts["verdict"].value_counts()
    gains = verdicts.groupby("verdict")["gain"].sum()
    words = [
        f"{name} {counts[name]}" + (f" (+{gains[name]:,.0f} clicks a month)" if gains[name] >= 1 else "") for name in TINT if name in counts
    ]
    out.print(Text("Verdicts: " + (", ".join(words) or "none, because no row names a page"), style="bold"))
    for text in fell_together(site.pages())[:3]:
        out.print(Text("  " + for_terminal(text)))
    faults = site.repairs()["repair"].value_counts()
    if len(faults):
        out.print(
            Text("Repairs: " + ", ".join(f"{name} {count}" for name, count in sorted(faults.items(), key=lambda one: (-one[1], one[0]))))
        )
    topics = site.topics()
    if len(topics):
        proposed = topics[topics["proposal"] != "none"]
        served = topics["served"].value_counts()
        text = ", ".join(f"{served[name]} {name}" for name in ("covered", "partly", "uncovered", "unknown") if name in served)
        more = (
            f"; {len(proposed)} to write, extend, translate or restore (+{proposed['gain'].sum():,.0f} clicks a month, in part those of expand)"
            if len(proposed)
            else ""
        )
        out.print(Text(f"Topics: {text}{more}"))
    show_missing(out, [one for one in account["missing"] if one["clicks"] or one["guards"]], 3)
    best = verdicts[verdicts["gain"].fillna(0) > 0].head(5)
    if len(best):
        out.print(Text("Best actions", style="bold"))
        for row in best.to_dict("records"):
            out.print(
                Text(
                    for_terminal(
                        f"  {row['verdict']:<11} {page_name(row['page'], site.config.site.home)}  +{row['gain']:,.0f} clicks a month ({row['gain_low']:,.0f} to {row['gain_high']:,.0f})"
                    )
                ),
                overflow="ellipsis",
                no_wrap=True,
            )
            out.print(Text(for_terminal(f"    {row['because']}"), style="dim"), overflow="ellipsis", no_wrap=True)
    out.print()
    out.print(
        Text(
            f"Written to {folder} in {seconds:.0f} s. Start with report.html; pages.csv holds every page, evidence.csv every figure behind a verdict."
        )
    )


def _read_line(kind: str, rows: pd.DataFrame) -> str:
    used, gone = rows[rows["fate"] == "used"], rows[rows["fate"] != "used"]
    measures = [name for name in ("clicks", "sessions", "conversions") if name in rows and used[name].notna().any()]
    figures = ", ".join(f"{used[name].sum():,.0f} {name}" for name in measures)
    if "clicks" in measures and not used["clicks"].sum() and (nameless := gone.loc[gone["fate"] == PAGELESS, "clicks"].sum()):
        figures = f"{nameless:,.0f} clicks, none with its page"
    aside = "; ".join(f"{row['fate']} {row['rows']:,}" for row in gone.to_dict("records") if row["rows"])
    return for_terminal(
        f"  {kind:<10} {int(used['rows'].sum()):>9,} rows used"
        + (f", {figures}" if figures else "")
        + (f"; set aside: {aside}" if aside else "")
    )
