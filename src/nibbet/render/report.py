"""report.html: one self-contained page for the editor and the client."""

from __future__ import annotations

import json
from importlib.resources import files
from typing import TYPE_CHECKING, Any

import pandas as pd

from nibbet.core.tables import records, to_act_on
from nibbet.core.verdict import Verdict
from nibbet.render.dossiers import chosen_pages, facts
from nibbet.render.glance import glance
from nibbet.render.safe import page_name
from nibbet.render.terminal import account_rows, cell_text, condensed
from nibbet.render.views import aside_sentence, told_change

if TYPE_CHECKING:
    from markupsafe import Markup

    from nibbet.render.drawing import Drawing
    from nibbet.results import Results

MOST_PRINTED, MOST_SECTIONS, MOST_LOSSES = 60, 40, 12
#: style and behaviour, each in one file: ours, and the lists by Tabulator (MIT, see assets/tabulator.LICENSE)
BUNDLED = {"css": "report.css", "js": "report.js", "list_css": "tabulator_simple.min.css", "list_js": "tabulator.min.js"}
PARTS = [
    ("glance", "At a glance"),
    ("act", "What to do"),
    ("pages", "Pages"),
    ("change", "Changes"),
    ("topics", "Topics"),
    ("works", "What works"),
    ("queries", "Queries"),
    ("popular", "Popular"),
    ("groups", "Rivals"),
    ("titles", "Titles"),
    ("hosts", "Results"),
    ("repairs", "Repairs"),
    ("absent", "Absent"),
    ("links", "Links"),
    ("backlinks", "Backlinks"),
    ("redirects", "Redirects"),
    ("data", "Data"),
]
MEANING: dict[str, str] = {
    Verdict.REFRESH: "lost, near or unattractive: rework the page",
    Verdict.EXPAND: "draws a topic that nothing on the site answers",
    Verdict.CONSOLIDATE: "answers what another page answers: merge into it",
    Verdict.PRUNE: "earns nothing anywhere: remove or redirect",
    Verdict.WATCH: "too young or too little known to judge",
    Verdict.KEEP: "leave as it is",
}


def report(site: Results, drawing: Drawing) -> str:
    """The report as HTML text with its figures (`drawing.FIGURES`); every text from outside is escaped, and equal analyses give equal text.

    Waits for the figures last: they are drawn while the lists are made.
    """
    from jinja2 import Environment
    from markupsafe import Markup

    verdicts, pages, topics = site.verdicts(), site.pages(), site.topics()
    changes, strong, repairs = site.compare(), site.strengths(), site.repairs()
    actions = to_act_on(verdicts)
    actions = actions.assign(rank=actions["verdict"].map(list(MEANING).index)).sort_values(
        ["gain", "rank", "page"], ascending=[False, True, True]
    )
    account = site.account
    rest = pages[~pages["page"].isin(chosen_pages(pages)["page"])]
    environment = Environment(autoescape=True, trim_blocks=True, lstrip_blocks=True)
    environment.filters["cell"] = cell_text
    environment.filters["path"] = lambda address: page_name(address, site.config.site.home)
    assets = files("nibbet.render")
    template = environment.from_string((assets / "templates" / "report.html.j2").read_text("utf-8"))
    carried = facts(site)
    dossiers = carried.pop("dossiers")
    # trusted text; the SVG writer escapes what it draws
    bundled = {name: Markup((assets / "assets" / file).read_text("utf-8")) for name, file in BUNDLED.items()}  # noqa: S704
    context = dict(
        **bundled,
        facts=_json(carried),
        dossiers=_json(dossiers),
        parts=PARTS,
        site=site.config.site.home,
        windows=site.windows,
        account=_account(account),
        notes=account["notes"],
        missing=account["missing"],
        matched=account["matched"],
        counts=_counts(verdicts, list(MEANING)),
        actions=records(actions.head(MOST_PRINTED)),
        action_count=len(actions),
        carried=len(pages) - len(rest),
        beyond={"pages": len(rest), "clicks": int(rest["clicks"].sum()), "impressions": int(rest["impressions"].sum())},
        section_names=sorted(pages["section"].dropna().unique())[:MOST_SECTIONS],
        changed=told_change(next(iter(records(changes[(changes["level"] == "site") & (changes["measure"] == "clicks")])), None)),
        sections=_sections(changes),
        served=_served(topics),
        aside=aside_sentence(site.topics_aside()),
        proposals=records(topics.query("proposal != 'none'").head(MOST_PRINTED)),
        repairs=records(repairs.head(MOST_PRINTED)),
        traits=records(site.title_effects().dropna(subset=["effect"])),
        lengths={name: len(one["rows"]) for name, one in carried["lists"].items()},
        losses=records(site.losses().head(MOST_LOSSES)),
        strengths=records(pd.concat([strong[strong["level"] == level].head(12) for level in ("section", "group", "length", "title")])),
        learnt=site.curve.learnt,
        totals=_totals(site),
        glance=glance(site),
        levels=[name for name in changes["level"].drop_duplicates() if name != "site"],
        common=records(site.popular_traits().query("real")),
    )
    figures = {name: Markup(f'<div class="drawn">{one.svg}</div>') for name, one in drawing.pictures.items()}  # noqa: S704
    return template.render(figures=figures, **context)


def _json(values: dict[str, Any]) -> Markup:
    """JSON for a script element: contains no "<" that could end it."""
    from markupsafe import Markup

    return Markup(json.dumps(values, ensure_ascii=False, separators=(",", ":"), allow_nan=False).replace("<", "\\u003c"))  # noqa: S704


def _served(topics: pd.DataFrame) -> list[dict[str, Any]]:
    counts = topics.groupby("served").agg(topics=("topic", "size"), impressions=("impressions", "sum"), clicks=("clicks", "sum"))
    return records(counts.reindex([name for name in ("covered", "partly", "uncovered") if name in counts.index]).reset_index())


def _sections(changes: pd.DataFrame) -> list[dict[str, Any]]:
    rows = changes[changes["level"].isin(["section", "group", "query group"]) & (changes["measure"] == "clicks")]
    return records(rows.head(MOST_SECTIONS))


def _counts(verdicts: pd.DataFrame, order: list[str]) -> list[dict[str, Any]]:
    most = verdicts["verdict"].value_counts()
    gain = verdicts.groupby("verdict")["gain"].sum()
    return [
        {
            "verdict": name,
            "count": int(most.get(name, 0)),
            "share": float(most.get(name, 0) / max(most.max(), 1)),
            "gain": float(gain.get(name, 0)),
            "meaning": MEANING[name],
        }
        for name in order
    ]


def _account(account: dict[str, Any]) -> dict[str, Any]:
    rows = condensed(account_rows(account))
    return {
        "columns": list(rows.columns),
        "rows": [[cell_text(value, str(name)) for name, value in row.items()] for row in rows.to_dict("records")],
    }


def _totals(site: Results) -> dict[str, float]:
    pages = site.pages()
    recent, long = pages["clicks"].sum(), pages["clicks_long"].sum()
    return {"clicks": float(recent), "long": float(long), "pages": float(len(pages)), "impressions": float(pages["impressions"].sum())}
