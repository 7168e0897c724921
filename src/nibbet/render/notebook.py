"""Notebook display of a site, its account and its tables."""

from __future__ import annotations

from html import escape
from typing import TYPE_CHECKING, Any

import pandas as pd

from nibbet.core.meanings import SHARES
from nibbet.render.safe import for_terminal, path_of
from nibbet.render.terminal import account_rows, cell_text, condensed

if TYPE_CHECKING:
    from pandas.io.formats.style import Styler

    from nibbet.results import Results

MOST_SHOWN = 50


def styled(frame: pd.DataFrame, *, most: int = MOST_SHOWN) -> Styler:
    """A formatted table: numbers and shares as on the terminal, addresses without host, bars behind gains.

    most: rows shown; the caption gives their total. Texts from outside are escaped.
    """
    shown = frame.head(most)
    formats: Any = {name: (lambda value, name=name: for_terminal(_cell(value, str(name)))) for name in shown.columns}
    style = shown.style.format(formats, escape="html").hide(axis="index")
    if "gain" in shown and shown["gain"].fillna(0).max() > 0:
        style = style.bar(subset=["gain"], color="#8fc1cf", vmin=0)
    texts = [name for name in ("because", "also", "page", "key") if name in shown]
    style = style.set_properties(subset=pd.Index(texts), **{"text-align": "left"}) if texts else style
    figures = [name for name in shown.columns if pd.api.types.is_numeric_dtype(shown[name]) and not pd.api.types.is_bool_dtype(shown[name])]
    style = (
        style.set_properties(subset=pd.Index(figures), **{"text-align": "right", "font-variant-numeric": "tabular-nums"})
        if figures
        else style
    )
    return style.set_caption(f"the first {most:,} of {len(frame):,} rows") if len(frame) > most else style


def _cell(value: Any, name: str) -> str:
    wide = isinstance(value, float) and abs(value) >= 100 and name not in SHARES
    text = f"{value:,.0f}" if wide else cell_text(value, name)
    return path_of(text) if name in ("page", "target", "from", "to", "key", "survivor") else text


def site_html(site: Results) -> str:
    """The windows, the verdicts and the best actions of a site."""
    verdicts, w = site.verdicts(), site.windows
    counts = verdicts.groupby("verdict", sort=False).agg(pages=("page", "size"), gain=("gain", "sum")).sort_values("gain", ascending=False)
    best = verdicts[verdicts["gain"].fillna(0) > 0].head(5)[["page", "verdict", "gain", "because"]]
    head = f"<p><strong>{escape(site.config.site.home)}</strong>, recent {w.recent}, against {w.reference}</p>"
    return head + styled(counts.reset_index()).to_html() + styled(best).to_html()


def account_html(account: dict[str, Any]) -> str:
    """The balance of the join by kind and reason, and its notes."""
    notes = "".join(f"<li>{escape(for_terminal(note['text']))}</li>" for note in account["notes"])
    return styled(condensed(account_rows(account))).to_html() + f"<ul>{notes}</ul>"
