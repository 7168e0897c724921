"""Briefs in Markdown: facts and figures for an author."""

from __future__ import annotations

import hashlib
import re
import unicodedata

import pandas as pd

from nibbet.core.briefs import Brief
from nibbet.core.languages import NAMES
from nibbet.core.tables import rows_of
from nibbet.render.safe import for_terminal, page_name


def safe(text: object) -> str:
    """A text from outside as plain words in Markdown and HTML: no markup, no control characters, one line."""
    one_line = for_terminal(" ".join(str(text).split()))
    marked = re.sub(r"([\\`*_{}\[\]#|~!])", r"\\\1", one_line)
    return marked.replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;")


def file_name(topic: str) -> str:
    """A file name for a topic: letters, digits and dashes of its label, and a few characters of its digest, so that names are unique."""
    plain = unicodedata.normalize("NFKD", topic).encode("ascii", "ignore").decode()
    words = re.sub(r"[^a-z0-9]+", "-", plain.lower()).strip("-")[:60].strip("-")
    return f"{words or 'topic'}-{hashlib.sha256(topic.encode()).hexdigest()[:6]}.md"


def brief_text(brief: Brief, window: str) -> str:
    """The brief as Markdown."""
    row = brief.topic
    page = row["page"] if isinstance(row["page"], str) else ""
    what = {
        "extend": f"Extend {safe(page_name(page, brief.home))}. ",
        "new page": "Write a new page. ",
        "restore": f"Restore {safe(page_name(page, brief.home))}. ",
        "translate": f"Translate {safe(page_name(page, brief.home))} into {NAMES.get(row['language'], '')}. ",
    }.get(row["proposal"], "")
    lines = [f"# {safe(row['label'])}", "", f"{what}{safe(row['because'])}", ""]
    lines.append(f"- {row['queries']:,.0f} {'query' if row['queries'] == 1 else 'queries'}, volume {row['volume']:,.0f} ({row['volume_kind']}, {window})")
    if pd.notna(row["gain"]):
        lines.append(f"- Within reach: {row['gain']:,.0f} clicks a month ({row['gain_low']:,.0f} to {row['gain_high']:,.0f}, 80%)")
    if pd.notna(row["worth"]):
        lines.append(f"- Worth in money: {row['worth']:,.0f} a month, by what visits to its section earn")
    if pd.notna(row["peak"]):
        lines.append(f"- Most wanted from {row['peak']:%Y-%m-%d} on: be ready some weeks before")
    if page and row["served"] != "covered" and pd.notna(row["position"]):
        lines.append(f"- {safe(page_name(page, brief.home))} is shown for it now at position {row['position']:.1f}")
    if isinstance(row.get("fit"), str):
        lines.append(f"- {row['fit'].capitalize()}: {safe(row['fit_because'])}")
    lines += [f"- {str(part).capitalize()}: {safe('; '.join(rows['text']))}" for part, rows in brief.business.groupby("part", sort=False)]
    lines += ["", "## What is asked", "", "| query | volume | position |", "|---|---:|---:|"]
    lines += [
        f"| {safe(q.query)} | {q.volume:,.0f} | {'' if pd.isna(q.position) else f'{q.position:.1f}'} |" for q in rows_of(brief.queries)
    ]
    if len(brief.questions):
        lines += ["", f"## Questions (of {brief.snapshots} result snapshots)", ""]
        lines += [f"- {safe(q.question)} ({q.shown})" for q in rows_of(brief.questions)]
    if len(brief.titles):
        lines += ["", "## What ranks now", ""]
        lines += [f"- {safe(t.title)} ({t.share:.0%} of snapshots)" for t in rows_of(brief.titles)]
    if len(brief.covered):
        words = ", ".join(f"{safe(w.word)} {w.share:.0%}" for w in rows_of(brief.covered))
        lines += ["", f"Their titles speak of, beyond the words asked: {words}."]
    if len(brief.kinds):
        lines += ["", f"What kind of page ranks: {', '.join(f'{kind.kind} {kind.share:.0%}' for kind in rows_of(brief.kinds))}."]
    lines += _existing(brief, page)
    if len(brief.links):
        lines += ["", "## Link to it from", ""]
        lines += [
            f'- {safe(page_name(str(link.page), brief.home))} ("{safe(link.title)}", {link.clicks:,.0f} clicks), with the words "{safe(row["label"])}"'
            for link in rows_of(brief.links)
        ]
    if len(brief.others):
        lines += ["", "## Leave to others, and link to them", ""]
        lines += [f'- "{safe(o.topic)}" is answered by {safe(page_name(str(o.page), brief.home))}' for o in rows_of(brief.others)]
    return "\n".join(lines) + "\n"


def _existing(brief: Brief, page: str) -> list[str]:
    """What the existing page says, and which searched words it lacks."""
    if brief.existing is None:
        return []
    texts = [(name, brief.existing[name]) for name in ("title", "h1", "description", "headings")]
    facts = [
        f"- {name}: {safe(text.replace('|', '; ') if name == 'headings' else text)}"
        for name, text in texts
        if isinstance(text, str) and text
    ]
    if pd.notna(brief.existing["words"]):
        facts.append(f"- {brief.existing['words']:,.0f} words")
    if len(brief.missing):
        facts.append(f"- asked, but in none of these: {', '.join(f'{safe(w.word)} {w.share:.0%}' for w in rows_of(brief.missing))}")
    return ["", f"## What {safe(page_name(page, brief.home))} already says", "", *facts] if facts else []
