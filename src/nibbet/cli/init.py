"""`nibbet init`: examines the files in a folder and writes settings, with guesses marked."""

from __future__ import annotations

import json
import re
import sys
import tempfile
from collections import Counter
from datetime import date, timedelta
from pathlib import Path
from typing import TYPE_CHECKING
from urllib.parse import urlsplit

from nibbet.config import load_config
from nibbet.errors import ConfigError, SourceError
from nibbet.render.files import write_files
from nibbet.render.safe import for_terminal
from nibbet.sources.periods import days_back, in_words
from nibbet.sources.recognise import SURE

if TYPE_CHECKING:
    from nibbet.sources.periods import Period
    from nibbet.sources.survey import Entry, Survey

LATER = """
# [windows]
# recent = 90          # days; also: reference = "year" or "before", long, settled

# [protect]
# pages = ["/legal/*"] # never removed or merged away

# [value]
# conversion = 25.0    # what one is worth
# currency = "EUR"
"""
#: share of the redirects of a host that lead to another, and share of its listed pages that redirect there, from which it has moved; share of
#: sampled addresses from which a host belongs to the site; share of the paths of a host that the home host has too, from which both serve the
#: same pages
MOVED_SHARE, MOVED_PAGES, HOST_SHARE, SAME_PATHS = 0.9, 0.5, 0.02, 0.5
#: share of sampled queries with the name of the host from which it is taken for the brand
BRAND_SHARE = 0.003
#: share of sampled queries with one word of the host's name and not the other from which these words are the subject of the site
SUBJECT_SHARE = 0.2
#: words that a name written as one may consist of; letters up to which a part of a host before its last is no name, as in `name.co.uk`
MOST_WORDS, SHORT_PART = 4, 3
#: examples for an unknown home and period
EXAMPLE_HOME, EXAMPLE_PERIOD = "https://tarnbrook.example/", "[2026-08-03, 2026-10-31]"


def write_settings(root: Path, home: str | None, *, force: bool) -> None:
    """Write nibbet.toml into `root` and print what was found; on a terminal, ask for what is unknown.

    Raises ConfigError where there are settings already, and SourceError where nothing was recognised.
    """
    from nibbet.sources.files import Limits
    from nibbet.sources.survey import survey

    target = root / "nibbet.toml"
    if not root.is_dir():
        raise ConfigError(f"{root} is not a folder. Name the folder that holds the exports: nibbet init FOLDER")
    if target.exists() and not force:
        raise ConfigError(f"{target} is there already. Edit it, or write it anew with: nibbet init {root} --force")
    with tempfile.TemporaryDirectory(prefix="nibbet-") as spill:
        result = survey(root, Path(spill), Limits(40_000_000_000, 400.0))
    if not result.entries:
        listed = "".join(f"\n  {name}: {why}" for name, why in result.left_out[:6])
        raise SourceError(
            f"{root}: no table was understood.{listed}\nPut search, landing-page or crawl exports there (CSV, XLSX, ODS, Parquet, JSON) and run nibbet init again."
        )
    _show(result)
    answers = _Answers(asks=sys.stdin.isatty() and sys.stdout.isatty())
    text = _settings(result, root, home or _home(result), answers)

    def write(path: Path) -> None:
        path.write_text(text, "utf-8")

    write_files(root, {"nibbet.toml": write})
    open_lines = text.count("# not known:")
    if not open_lines:
        load_config(target)
    after = f'Fill in its {open_lines} line{"s" * (open_lines > 1)} marked "not known"' if open_lines else "Look through it"
    then = f"then: nibbet run {root}"
    if not any(entry.reading.kind == "search" for entry in result.entries):
        then = f"and put a search export there, which is still missing; then: nibbet init {root} --force"
    sys.stdout.write(f"Wrote {target}. {after}, {then}\n")


class _Answers:
    """The answers of the user to questions; without a terminal, none."""

    def __init__(self, *, asks: bool) -> None:
        self._asks = asks

    def __call__(self, question: str, proposal: str) -> str | None:
        if not self._asks:
            return None
        import typer

        return str(typer.prompt(for_terminal(question), default=proposal, show_default=bool(proposal))).strip() or None


# -- what was found, for people ------------------------------------------------------------------------------------------------------------


def _show(survey: Survey) -> None:
    """One line for each table: kind, grain, days, file and doubts; one line for each that is left out."""
    rows = [(e.reading.kind, e.grain, _days(e), e.table, "; ".join(_doubts(e))) for e in survey.entries]
    rows = _folded(rows)
    head = ("kind", "one row is", "days", "table", "doubts")
    widths = [max(len(row[n]) for row in [head, *rows]) for n in range(4)]
    for row in [head, *rows]:
        line = "  ".join(cell.ljust(width) for cell, width in zip(row, widths, strict=False)) + "  " + row[4]
        sys.stdout.write(for_terminal(line.rstrip()) + "\n")
    for name, why in survey.left_out:
        sys.stdout.write(for_terminal(f"left out: {name}: {why}") + "\n")


def _folded(rows: list[tuple[str, str, str, str, str]]) -> list[tuple[str, str, str, str, str]]:
    """Files whose names differ only in numbers as one line, with their count."""
    alike: dict[tuple[str, ...], list[tuple[str, str, str, str, str]]] = {}
    for row in rows:
        alike.setdefault((*row[:3], re.sub(r"\d+", "*", row[3]), re.sub(r"\d+", "*", row[4])), []).append(row)
    return [
        group[0] if len(group) == 1 else (*group[0][:3], f"{group[0][3]} and {len(group) - 1} more like it", group[0][4])
        for group in alike.values()
    ]


def _days(entry: Entry) -> str:
    if not entry.is_undated:
        return "in the names" if entry.day else "in the rows" if "date" in entry.reading.matches else ""
    known = [period for period in entry.periods if period]
    return ", ".join(["NOT KNOWN"] * (len(entry.periods) - len(known)) + ([in_words(known)] if known else []))


def _doubts(entry: Entry) -> list[str]:
    doubts = [f"{match.column} is {match.name!r}, {match.why}" for match in entry.reading.doubtful]
    doubts += [f"{header!r} stands twice, not taken for {column}" for column, header in entry.reading.twice]
    doubts += [f"all rows: {name} {value}" for name, value in entry.constant.items()]
    if entry.reading.unused:
        doubts.append(f"not used: {', '.join(entry.reading.unused[:8])}")
    return doubts


# -- what is written -----------------------------------------------------------------------------------------------------------------------


def _home(survey: Survey) -> str | None:
    """The home page of the most frequent host, or of the one to which it has moved; None without any absolute address."""
    bare: Counter[str] = Counter()
    for host, count in survey.hosts.items():
        bare[host.removeprefix("www.")] += count
    if not bare:
        return None
    host = bare.most_common(1)[0][0]
    return f"https://{_moved_to(survey, host) or host}/"


def _moved_to(survey: Survey, host: str) -> str | None:
    """The other host to which most pages of a host redirect, if nearly all of its redirects lead there."""
    leads = survey.moved.get(host)
    if not leads:
        return None
    other, count = leads.most_common(1)[0]
    moved = count >= MOVED_SHARE * leads.total() and count >= MOVED_PAGES * survey.listed[host]
    return other if moved and other != host else None


def _settings(survey: Survey, root: Path, home: str | None, answers: _Answers) -> str:
    home = answers("The site's home address", home or EXAMPLE_HOME) or home
    lines = ["# Written by nibbet init; every setting: docs/settings.md", "[site]"]
    lines.append(f"home = {_quoted(home)}" if home else f'# not known: home = "{EXAMPLE_HOME}"   # no file holds a whole address')
    lines += _more_hosts(survey, home) if home else []
    lines += [*_brand(survey, home, answers), ""]
    last = max((entry.last for entry in survey.entries if entry.last), default=None)
    for pattern, entries in survey.sources(root):
        lines += [*_source(pattern, entries, answers, last), ""]
    lines += [f"# left out: {_quoted(name)} ({_quoted(why)})" for name, why in survey.left_out]
    return "\n".join(lines) + LATER


def _more_hosts(survey: Survey, home: str) -> list[str]:
    """Lines for former hosts, by redirects, and for hosts of the same site with the same or with other pages."""
    home_host = (urlsplit(home).hostname or "").removeprefix("www.")
    counts: Counter[str] = Counter()
    paths: dict[str, set[str]] = {}
    for host, count in survey.hosts.items():
        bare = host.removeprefix("www.")
        counts[bare] += count
        paths[bare] = paths.get(bare, set()) | survey.paths[host]
    old = sorted(host for host in survey.moved if host != home_host and _moved_to(survey, host) == home_host)
    below = sorted(
        host
        for host, count in counts.items()
        if host.endswith(f".{home_host}") and host not in old and count >= HOST_SHARE * counts.total()
    )
    same = [host for host in below if len(paths[host] & paths.get(home_host, set())) > SAME_PATHS * len(paths[host])]
    more = [host for host in below if host not in same]
    named = (("hosts", same, "the same pages"), ("more_hosts", more, "pages of their own"), ("old_hosts", old, "they redirect to the home"))
    return [f"{name} = [{', '.join(map(_quoted, those))}]   # {why}" for name, those, why in named if those]


def _brand(survey: Survey, home: str | None, answers: _Answers) -> list[str]:
    name = _name_in(urlsplit(home or EXAMPLE_HOME).hostname or "name")
    spelt = {name, name.replace("-", " "), *_spaced(name, survey.queries)} if home else set()
    named = [
        word
        for word in sorted(spelt)
        if sum(bool(re.search(rf"\b{re.escape(word)}\b", q.casefold())) for q in survey.queries) > BRAND_SHARE * len(survey.queries)
    ]
    subject = _subject_in(name, survey.queries)
    if subject:
        named = [f"={word}" for word in named if word != subject]
    reply = answers("Words by which people ask for you by name, parted by commas", ", ".join(named or [name]))
    if reply:
        return [f"brand = [{', '.join(_quoted(word.strip()) for word in reply.split(',') if word.strip())}]"]
    if subject:
        mark = "" if named else "# "
        return [f'{mark}brand = [{", ".join(map(_quoted, named or ["=" + name]))}]   # as written: "{subject}" is what this site is about']
    if named:
        return [f"brand = [{', '.join(map(_quoted, named))}]   # the host's name, which some queries hold; add other spellings"]
    return [f"# brand = [{_quoted(max(spelt, key=len, default=name))}]   # words that mark a query as one for you by name"]


def _name_in(host: str) -> str:
    """The registered name in a host: `valveden` in forum.valveden.example and in valveden.co.uk."""
    parts = host.removeprefix("www.").split(".")[:-1] or [host]
    return parts[-2] if len(parts) > 1 and len(parts[-1]) <= SHORT_PART else parts[-1]


def _spaced(name: str, queries: list[str]) -> set[str]:
    """The runs of words in queries that make the host's name if written as one."""
    joined = name.replace("-", "")
    words = [q.casefold().split() for q in queries]
    runs = (one[at : at + n] for one in words for n in range(2, MOST_WORDS + 1) for at in range(len(one) - n + 1))
    return {" ".join(run) for run in runs if "".join(run) == joined}


def _subject_in(name: str, queries: list[str]) -> str:
    """The words that make the host's name, where one of them is common in queries without the other: then they are a subject, not a brand."""
    words = [q.casefold().split() for q in queries]
    for first, second in sorted(run.split() for run in _spaced(name, queries) if run.count(" ") == 1):
        alone = max(sum(a in one and b not in one for one in words) for a, b in ((first, second), (second, first)))
        if alone > SUBJECT_SHARE * len(words):
            return f"{first} {second}"
    return ""


def _source(pattern: str, entries: list[Entry], answers: _Answers, last: date | None) -> list[str]:
    one = max(entries, key=lambda entry: len(entry.reading.doubtful))
    reading = one.reading
    lines = ["[[source]]", f'kind = "{reading.kind}"', f"files = {_quoted(pattern)}"]
    lines += [
        f"# {match.column} = {_quoted(match.name)}" + ("" if match.confidence >= SURE else f"   # {match.why}")
        for match in reading.matches.values()
    ]
    if doubtful := reading.doubtful:
        lines.append(f"# columns = {{ {doubtful[0].column} = {_quoted(doubtful[0].name)} }}   # uncomment and mend")
    if reading.unused:
        lines.append(f"# not used: {_quoted(', '.join(reading.unused))}")
    if one.constant:
        shared = ", ".join(f"{name} = {_quoted(value)}" for name, value in one.constant.items())
        lines.append(f"constant = {{ {shared} }}   # what all rows share")
    undated = [entry for entry in entries if entry.is_undated]
    known = [period for entry in undated for period in entry.periods if period]
    if undated and all(all(entry.periods) for entry in undated):
        lines += [f"# the days of {_quoted(entry.table)}: {in_words(p for p in entry.periods if p)}" for entry in undated[:24]]
    elif undated:
        lines += _period_line(undated, known, answers, last)
    return lines


def _period_line(undated: list[Entry], known: list[Period], answers: _Answers, last: date | None) -> list[str]:
    """The line of an unknown period, with the answer of the user, else left open.

    last: the last day of the tables with dates; a name that says how many days a table covers does not say when they end.
    """
    windows = max(len(entry.periods) for entry in undated)
    example = EXAMPLE_PERIOD if windows == 1 else f"[{EXAMPLE_PERIOD}, [2025-08-03, 2025-10-31]]"
    proposal, hint = f"{known[0][0]}..{known[0][1]}" if known else "", "the rows carry no date: put the days they cover here"
    if windows == 1 and not known and last and (days := days_back(undated[0].table)):
        first = last - timedelta(days=days - 1)
        example, proposal = f"[{first}, {last}]", f"{first}..{last}"
        hint = "the rows carry no date: these are the days of its name, if it ends as the other tables do"
    if windows == 1 and (reply := answers(f"The days that {undated[0].table} covers, as 2026-08-03..2026-10-31", proposal)):
        start, _, end = reply.partition("..")
        return [f"period = [{start.strip()}, {end.strip()}]"]
    return [f"# not known: period = {example}   # {hint}"]


def _quoted(text: str) -> str:
    """A text as a TOML string on one line."""
    return json.dumps(" ".join(text.split()), ensure_ascii=False)
