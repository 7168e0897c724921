"""Figures: each takes a finished table and gives a Matplotlib figure; saving is another call."""

from __future__ import annotations

import io
from typing import TYPE_CHECKING

import numpy as np
import pandas as pd

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from nibbet.core.curve import Curve
    from nibbet.core.windows import Windows

#: colours apart for every kind of sight; the darker one carries the finding
INK, MAIN, SECOND, SHADE = "#22303c", "#0b6e8a", "#d1701f", "#e6edf0"


def _blank(width: float = 9.0, height: float = 3.2) -> Figure:
    import matplotlib as mpl
    from matplotlib.figure import Figure

    mpl.rcParams.update(
        {
            "svg.fonttype": "none",
            "svg.hashsalt": "nibbet",
            "font.family": "sans-serif",
            "font.size": 10,
            "axes.edgecolor": "#9aa7b0",
            "axes.labelcolor": INK,
            "text.color": INK,
            "xtick.color": INK,
            "ytick.color": INK,
        }
    )
    figure = Figure(figsize=(width, height), layout="constrained")
    axes = figure.subplots()
    axes.spines[["top", "right"]].set_visible(False)
    return figure


def trend(days: pd.DataFrame, windows: Windows) -> Figure:
    """Clicks a week with the recent and reference windows shaded.

    Args:
        days: date, clicks; one row per complete day.
    """
    figure = _blank()
    axes = figure.axes[0]
    age = (pd.Timestamp(windows.as_of) - days["date"]).dt.days // 7
    weeks = days.groupby(age).agg(end=("date", "max"), clicks=("clicks", "sum"), n=("date", "size"))
    weeks = weeks[weeks["n"] == 7].sort_values("end")
    for window, label in ((windows.reference, "reference"), (windows.recent, "recent")):
        axes.axvspan(pd.Timestamp(window.start), pd.Timestamp(window.end), color=SHADE)
        axes.text(pd.Timestamp(window.start), 1.01, f" {label}", transform=axes.get_xaxis_transform(), va="bottom", fontsize=9)
    axes.plot(weeks["end"], weeks["clicks"], color=MAIN, linewidth=2)
    axes.set_ylim(bottom=0)
    axes.set_ylabel("clicks a week")
    axes.yaxis.set_major_formatter(lambda value, _: f"{value:,.0f}")
    return figure


def ctr_curve(curve: Curve) -> Figure:
    """The site's own CTR by position for queries without the brand, with its 95% band, per device."""
    figure = _blank(height=3.4)
    axes = figure.axes[0]
    rows = curve.rates[~curve.rates["brand"].astype(bool)]
    styles = ["-", "--", ":", "-."]
    colours = [MAIN, SECOND, INK, "#6a4c93"]
    kinds = rows.groupby(["device", "surface"])["impressions"].sum().sort_values(ascending=False)
    for number, (device, surface) in enumerate(kinds.index[:4]):
        part = rows[(rows["device"] == device) & (rows["surface"] == surface) & (rows["bin"] < 30)]
        place = np.exp((part["bin"] + 0.5) / 10)
        axes.plot(
            place,
            part["rate"],
            styles[number],
            color=colours[number],
            label=" ".join(filter(None, (device, surface))) or "all searches",
            linewidth=1.8,
        )
        if number == 0:
            axes.fill_between(place, part["low"], part["high"], color=MAIN, alpha=0.15, linewidth=0)
    axes.set_xscale("log")
    axes.set_xticks([1, 2, 3, 5, 10, 20], ["1", "2", "3", "5", "10", "20"])
    axes.minorticks_off()
    axes.yaxis.set_major_formatter(lambda value, _: f"{value:.0%}")
    axes.set_xlabel("position")
    axes.set_ylabel("clicks per impression")
    axes.set_ylim(bottom=0)
    if len(kinds):
        axes.legend(frameon=False)
    return figure


def as_svg(figure: Figure) -> str:
    """The figure as an SVG element: equal figures give equal text."""
    out = io.StringIO()
    figure.savefig(out, format="svg", metadata={"Date": None, "Creator": None}, transparent=True)
    text = out.getvalue()
    return text[text.index("<svg") :]
