"""`nibbet init`: looks at what lies in the folder and writes settings that say what was found and what was not sure."""

from __future__ import annotations

import json
import sys
from collections import Counter
from pathlib import Path
from urllib.parse import urlsplit

from nibbet.config import load_config
from nibbet.errors import ConfigError, SourceError
from nibbet.render.files import write_files
from nibbet.render.safe import for_terminal
from nibbet.sources.recognise import SURE, Reading

LATER = """
# [windows]
# recent = 90          # days; also: reference = "year" or "before", long, settled

# [protect]
# pages = ["/legal/*"] # never removed or merged away

# [value]
# conversion = 25.0    # what one is worth
# currency = "EUR"
"""


def write_settings(root: Path, home: str | None, *, force: bool) -> None:
    """Write nibbet.toml into `root` and say what was found. Raises ConfigError where one is, or nothing was understood."""
    from nibbet.engine import Engine
    from nibbet.sources.files import Limits
    from nibbet.sources.load import survey

    target = root / "nibbet.toml"
    if not root.is_dir():
        raise ConfigError(f"{root} is not a folder. Name the folder that holds the exports: nibbet init FOLDER")
    if target.exists() and not force:
        raise ConfigError(f"{target} is there already. Edit it, or write it anew with: nibbet init {root} --force")
    engine = Engine()
    try:
        understood, left, hosts = survey(root, engine, Limits(40_000_000_000, 400.0))
    finally:
        engine.close()
    if not understood:
        listed = "".join(f"\n  {name}: {why}" for name, why in left[:6])
        raise SourceError(
            f"{root}: no table was understood.{listed}\nPut search, landing-page or crawl exports there (CSV, XLSX, ODS, Parquet, JSON lines) and run nibbet init again."
        )
    found = home or _home(hosts)
    write_files(root, {"nibbet.toml": lambda path: path.write_text(_settings(found, understood, left), "utf-8") and None})
    load_config(target)
    for pattern, reading in understood:
        sys.stdout.write(for_terminal(f"{reading.kind:<10} {pattern}") + "\n")
        for match in reading.doubtful:
            sys.stdout.write(
                for_terminal(
                    f"           not sure that {match.header!r} is {match.column}; settle it with columns = {{ {match.column} = {_quoted(match.header)} }}"
                )
                + "\n"
            )
    for name, why in left:
        sys.stdout.write(for_terminal(f"left out   {name}: {why}") + "\n")
    sys.stdout.write(f"Wrote {target}. Look through it, then: nibbet run {root}\n")


def _home(hosts: Counter[str]) -> str:
    """The home of the host most met; an example to be edited when no file holds a whole address."""
    bare: Counter[str] = Counter()
    for host, count in hosts.items():
        bare[host.removeprefix("www.")] += count
    return f"https://{bare.most_common(1)[0][0]}/" if bare else "https://tarnbrook.example/"


def _settings(home: str, understood: list[tuple[str, Reading]], left: list[tuple[str, str]]) -> str:
    lines = [
        "# Written by nibbet init; every setting: docs/settings.md",
        "[site]",
        f"home = {_quoted(home)}",
        f"# brand = [{_quoted(_name(home))}]   # words that mark a query as one for you by name",
        "",
    ]
    for pattern, reading in understood:
        lines += ["[[source]]", f'kind = "{reading.kind}"', f"files = {_quoted(pattern)}"]
        lines += [
            f"# {match.column} = {_quoted(match.header)}" + ("" if match.confidence >= SURE else "   # not sure")
            for match in reading.matches.values()
        ]
        doubtful = reading.doubtful
        if doubtful:
            lines.append(f"# columns = {{ {doubtful[0].column} = {_quoted(doubtful[0].header)} }}   # uncomment and mend")
        if reading.unused:
            lines.append(f"# not used: {_quoted(', '.join(reading.unused))}")
        if reading.kind in ("search", "landings") and "date" not in reading.matches:
            lines.append("period = [2026-08-03, 2026-10-31]   # the file has no dates: put the days it covers here")
        lines.append("")
    lines += [f"# left out: {_quoted(name)} ({_quoted(why)})" for name, why in left]
    return "\n".join(lines) + LATER


def _name(home: str) -> str:
    return (urlsplit(home).hostname or "name").split(".")[0]


def _quoted(text: str) -> str:
    """A text as a TOML string on one line."""
    return json.dumps(" ".join(text.split()), ensure_ascii=False)
