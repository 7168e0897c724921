"""Files of open standards: server access logs, XML sitemaps, robots.txt."""

from __future__ import annotations

import re
from dataclasses import replace
from typing import TYPE_CHECKING
from urllib.parse import urlsplit

from nibbet.errors import SourceError
from nibbet.sources.files import Plain
from nibbet.sources.sheets import Cells, Sheet, table_of_rows

if TYPE_CHECKING:
    import ibis

    from nibbet.engine import Engine

#: the Common Log Format, and its Combined form with referrer and agent, either with the virtual host in front; the client address is not
#: read, for privacy
LOG_LINE = r'^(?:([A-Za-z][\w-]*(?:\.[\w-]+)+)(?::\d+)? )?[^"\[]*\[(\d{2}/\w{3}/\d{4}):[^\]]*\] "(?:[A-Z]+) (\S+)(?: [^"]*)?" (\d{3}) (?:\d+|-)(?: "([^"]*)" "([^"]*)")?'
LOG_HEADER = ["host", "time", "path", "status", "referrer", "agent"]
#: the fields of the Extended Log Format (W3C) for the same
EXTENDED = {
    "host": "cs-host",
    "time": "date",
    "path": "cs-uri-stem",
    "status": "sc-status",
    "referrer": "cs(referer)",
    "agent": "cs(user-agent)",
}
MOST_SITEMAP_ENTRIES = 5_000_000


def is_log(head: str) -> bool:
    """Whether most lines of the text are entries of an access log."""
    if {"date", "cs-uri-stem"} <= set(_fields(head)):
        return True
    lines = [line for line in head.splitlines()[:50] if line.strip()]
    return bool(lines) and sum(bool(re.match(LOG_LINE, line)) for line in lines) > len(lines) * 0.6


def _fields(head: str) -> list[str]:
    """The fields of an Extended Log File, in the order of its lines; none in other texts."""
    line = re.search(r"(?im)^#Fields:[ \t]*(.+)$", head[:4096])
    return line[1].lower().split() if line else []


def log_sheet(plain: Plain) -> Sheet:
    """An access log as a table; lines that are no entries become rows without values."""
    if fields := _fields(plain.head):
        return _extended_log(plain, fields)
    result = [re.match(LOG_LINE, line) for line in plain.head.splitlines()[:400]]
    sample = [[group or "" for group in match.groups()] for match in result if match]
    lay = plain.lay

    def open_in(engine: Engine, _cells: Cells, _at: slice) -> ibis.Table:
        lines = engine.lines(lay())
        return lines.select(**{f"c{n}": lines.line.re_extract(LOG_LINE, n + 1).nullif("") for n in range(len(LOG_HEADER))}, part=0)

    return Sheet(plain.name, LOG_HEADER, sample, open_in, [(plain.name, plain.digest)], kind="hits")


def _extended_log(plain: Plain, fields: list[str]) -> Sheet:
    """As `log_sheet`, of the Extended Log Format: fields apart by blanks or tabs, blanks within as +, - for none."""
    entries = [line for line in plain.head.splitlines() if line and not line.startswith("#")][:400]
    mark = "\t" if entries and entries[0].count("\t") >= len(fields) - 1 else " "
    lay, header = plain.lay, [name for name, field in EXTENDED.items() if field in fields]
    places = [fields.index(EXTENDED[name]) for name in header]
    sample = [[parts[place] for place in places] for line in entries if len(parts := line.split(mark)) == len(fields)]

    def open_in(engine: Engine, _cells: Cells, _at: slice) -> ibis.Table:
        lines = engine.lines(lay())
        parts = lines.line.split(mark)
        entry = ~lines.line.startswith("#") & (parts.length() == len(fields))
        cells = {name: parts[place] for name, place in zip(header, places, strict=True)}
        if "cs-uri-query" in fields:
            query = parts[fields.index("cs-uri-query")]
            cells["path"] = (query == "-").ifelse(cells["path"], cells["path"] + "?" + query)
        cells |= {name: cells[name].replace("+", " ") for name in ("agent",) if name in cells}
        return lines.select(**{f"c{n}": entry.ifelse(cells[name].nullif("-"), None) for n, name in enumerate(header)}, part=0)

    return Sheet(plain.name, header, sample, open_in, [(plain.name, plain.digest)], kind="hits")


def is_robots(name: str, head: str) -> bool:
    """Whether the text is a robots.txt, by its name and its first rule."""
    return "robots" in name.lower() and bool(re.search(r"(?im)^\s*(user-agent|disallow|allow|sitemap)\s*:", head))


def robots_sheet(plain: Plain) -> Sheet:
    """robots.txt (RFC 9309) as rows: agent, rule (allow, disallow, sitemap, other), pattern; unknown lines have the rule "other"."""
    rows: list[list[str]] = []
    agents: list[str] = []
    open_group = False
    for line in plain.path.read_text("utf-8", "replace").splitlines()[:100_000]:
        bare = line.split("#", 1)[0].strip()
        if not bare:
            continue
        name, result, value = (part.strip() for part in bare.partition(":"))
        name = name.lower()
        if name == "user-agent" and result:
            agents = [*agents, value.lower()] if open_group else [value.lower()]
            open_group = True
            continue
        if name in ("allow", "disallow") and result and agents:
            open_group = False
            rows += [[agent, name, value] for agent in agents]
        else:
            rows.append(["", name if name == "sitemap" and result else "other", value if name == "sitemap" else bare])
    return replace(table_of_rows(plain.name, ["agent", "rule", "pattern"], rows or [["*", "allow", "/"]], plain.digest), kind="robots")


def sitemap_sheet(plain: Plain) -> Sheet:
    """An XML sitemap as rows of loc and lastmod; of a sitemap index only the files that it lists.

    Raises SourceError for XML that is damaged, declares entities, or is no sitemap.
    """
    from xml.etree.ElementTree import ParseError

    from defusedxml import DefusedXmlException
    from defusedxml.ElementTree import iterparse

    rows: list[list[str]] = []
    root = ""
    try:
        for event, element in iterparse(plain.path, events=("start", "end"), forbid_dtd=True):
            tag = element.tag.rsplit("}", 1)[-1]
            root = root or tag
            if event == "end" and tag in ("url", "sitemap"):
                texts = {child.tag.rsplit("}", 1)[-1]: (child.text or "").strip() for child in element}
                rows.append([texts.get("loc", ""), texts.get("lastmod", "")])
                element.clear()
                if len(rows) > MOST_SITEMAP_ENTRIES:
                    raise SourceError(f"{plain.name}: holds more than {MOST_SITEMAP_ENTRIES:,} entries. Split it.")
    except DefusedXmlException:
        raise SourceError(
            f"{plain.name}: the XML declares a document type or entities, which are never expanded. Save it without them."
        ) from None
    except ParseError as fault:
        raise SourceError(f"{plain.name}: the XML is damaged ({fault}). Export it again.") from None
    if root == "sitemapindex":
        names = ", ".join(urlsplit(row[0]).path.rsplit("/", 1)[-1] for row in rows[:5])
        note = ("sitemap_index", f"{plain.name} lists other sitemaps; put those files beside it: {names}.")
        return replace(table_of_rows(plain.name, ["loc", "lastmod"], [], plain.digest), notes=(note,), kind="sitemap")
    if root != "urlset" or not rows:
        raise SourceError(f"{plain.name}: this is no sitemap (its root is <{root}>), or an empty one.")
    return replace(table_of_rows(plain.name, ["loc", "lastmod"], rows, plain.digest), kind="sitemap")
