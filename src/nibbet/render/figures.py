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


def _saying(figure: Figure, text: str) -> Figure:
    """The figure with a sentence in place of what it has not to show."""
    axes = figure.axes[0]
    axes.text(0.5, 0.5, text, ha="center", va="center", transform=axes.transAxes)
    axes.set_axis_off()
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


#: the parts of a change: colour and hatch, so that no part is told by colour alone
PART_LOOKS = {"demand": ("#8fa3ad", ""), "rank": (MAIN, "///"), "pull": (SECOND, "...")}


def movers(changes: pd.DataFrame, *, most: int = 7) -> Figure:
    """The pages that lost and gained most beyond chance, each change in its parts.

    Args:
        changes: rows of level page as `compare` gives them: key, change, real, demand, rank, pull.
    """
    rows = changes[changes["real"].astype(bool)].dropna(subset=["demand"])
    lost = rows[rows["change"] < 0].nsmallest(most, "change", keep="first")
    won = rows[rows["change"] > 0].nlargest(most, "change", keep="first")
    shown = pd.concat([lost, won.iloc[::-1]])
    figure = _blank(height=max(1.6, 0.34 * len(shown) + 1.1))
    axes = figure.axes[0]
    if shown.empty:
        return _saying(figure, "No page changed beyond chance.")
    place = np.arange(len(shown))[::-1]
    left, right = np.zeros(len(shown)), np.zeros(len(shown))
    for part, (colour, hatch) in PART_LOOKS.items():
        size = shown[part].to_numpy(float)
        start = np.where(size < 0, left, right)
        axes.barh(place, size, left=start, color=colour, hatch=hatch, edgecolor="white", linewidth=0.4, height=0.68, label=part)
        left, right = left + np.minimum(size, 0), right + np.maximum(size, 0)
    axes.scatter(shown["change"], place, marker="D", s=16, color=INK, zorder=3, label="change")
    axes.axvline(0, color=INK, linewidth=0.8)
    paths = (
        shown["key"]
        .str.replace(r"^https?://[^/]+", "", regex=True)
        .map(lambda path: _inert(path if len(path) <= 38 else f"{path[:18]}…{path[-18:]}"))
    )
    axes.set_yticks(place, paths.tolist())
    axes.tick_params(axis="y", length=0)
    axes.xaxis.set_major_formatter(lambda value, _: f"{value:+,.0f}" if value else "0")
    axes.set_xlabel("clicks, recent less reference")
    axes.legend(frameon=False, ncols=4, loc="lower center", bbox_to_anchor=(0.4, 1.0), handlelength=1.4)
    return figure


def _inert(text: str) -> str:
    """A text from outside as Matplotlib draws it literally."""
    return "".join(character if character.isprintable() else "?" for character in text).replace("$", r"\$")


def topics_open(topics: pd.DataFrame, *, most: int = 14) -> Figure:
    """The topics that no page answers or only in part, by what they could bring, with 80% intervals and how much they are wanted.

    Args:
        topics: as `Site.topics` gives them: label, proposal, volume, volume_kind, gain, gain_low, gain_high.
    """
    found = topics[(topics["proposal"] != "none") & (topics["gain"] > 0)]
    shown = found.nlargest(most, "gain", keep="first")
    figure = _blank(height=max(1.6, 0.34 * len(shown) + 1.2))
    axes = figure.axes[0]
    if shown.empty:
        return _saying(figure, "Every topic of any size is answered.")
    place = np.arange(len(shown))[::-1]
    gain = shown["gain"].to_numpy(float)
    for name, colour, hatch in (("new page", MAIN, ""), ("extend", SECOND, "//")):
        of_kind = (shown["proposal"] == name).to_numpy()
        if of_kind.any():
            axes.barh(
                place[of_kind],
                gain[of_kind],
                color=colour,
                alpha=0.6,
                hatch=hatch,
                edgecolor="white",
                linewidth=0.4,
                height=0.66,
                label=name,
            )
    ends = np.abs(shown[["gain_low", "gain_high"]].to_numpy(float).T - gain)
    axes.errorbar(gain, place, xerr=ends, fmt="none", ecolor=INK, elinewidth=1, capsize=2.5)
    for y, right, volume in zip(place, shown["gain_high"], shown["volume"], strict=True):
        axes.text(right, y, f"  {volume:,.0f}", va="center", fontsize=8, color=INK)
    axes.set_yticks(place, [_inert(label if len(label) <= 38 else label[:37] + "…") for label in shown["label"]])
    axes.tick_params(axis="y", length=0)
    axes.set_xlim(0, float(shown["gain_high"].max()) * 1.14)
    kinds = " or ".join(shown["volume_kind"].unique())
    axes.set_xlabel(f"clicks a month if answered (bar), 80% between (line); {kinds} (number)")
    axes.set_title(
        f"{len(found):,} topics without an answer: {found['gain'].sum():,.0f} clicks a month within reach", loc="left", fontsize=11
    )
    axes.legend(frameon=False, loc="lower right", fontsize=9)
    return figure


def ctr_curve(curve: Curve, pages: pd.DataFrame | None = None) -> Figure:
    """The site's own CTR by position for queries without the brand, with its 95% band, per device.

    Args:
        pages: position, impressions, ctr of pages, drawn as dots where 300 impressions and more tell a rate.
    """
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
    if pages is not None:
        dots = pages[(pages["impressions"] >= 300) & pages["position"].between(1, 22)]
        size = np.clip(np.sqrt(dots["impressions"].to_numpy(float)) / 5, 3, 40)
        axes.scatter(dots["position"], dots["ctr"], s=size, color=INK, alpha=0.35, linewidth=0, zorder=0, label="one page")
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


def as_png(figure: Figure) -> bytes:
    """The figure as a PNG on white: equal figures give equal bytes."""
    out = io.BytesIO()
    figure.savefig(out, format="png", dpi=140, metadata={"Software": None}, facecolor="white")
    return out.getvalue()
