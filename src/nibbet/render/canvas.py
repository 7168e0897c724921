"""The common look of figures, and their SVG and PNG output."""

from __future__ import annotations

import io
import re
from collections.abc import Callable
from functools import wraps
from html import escape
from typing import TYPE_CHECKING, ParamSpec, TypeVar

import pandas as pd

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure


#: colours that are distinct for every kind of vision; the darker one carries the finding
INK, MAIN, SECOND, SHADE, SOFT = "#22303c", "#0b6e8a", "#d1701f", "#e6edf0", "#5b6a76"
#: the style of figures, applied without changing the user's own settings
STYLE = {
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
Given = ParamSpec("Given")
Made = TypeVar("Made")


def in_style(make: Callable[Given, Made]) -> Callable[Given, Made]:
    """Draws in this style, from the defaults of Matplotlib; restores the user's settings afterwards."""

    @wraps(make)
    def drawn(*given: Given.args, **named: Given.kwargs) -> Made:
        from matplotlib import style

        with style.context(["default", STYLE]):
            return make(*given, **named)

    return drawn


def blank(width: float = 9.0, height: float = 3.2) -> Figure:
    """A figure with one empty pair of axes, in inches."""
    from matplotlib.figure import Figure

    figure = Figure(figsize=(width, height), layout="constrained")
    axes = figure.subplots()
    axes.spines[["top", "right"]].set_visible(False)
    return figure


def titled(figure: Figure, finding: str, source: str = "") -> Figure:
    """The figure with its finding as title, and its source below."""
    axes = figure.axes[0]
    figure.suptitle(inert(finding), x=0.01, ha="left", fontsize=12, fontweight="bold")
    if source:
        axes.set_title(inert(source), loc="left", fontsize=8.5, color=SOFT, pad=20 if axes.get_legend() is None else 26)
    return figure


def label_beside(axes: Axes, x: float, y: float, text: str) -> None:
    """A small text to the right of a place."""
    axes.annotate(text, (x, y), xytext=(5, 0), textcoords="offset points", va="center", fontsize=8, color=INK)


def short_paths(addresses: pd.Series, width: int = 38) -> list[str]:
    """Addresses without host, long ones shortened in the middle, escaped for Matplotlib."""
    bare = addresses.str.replace(r"^https?://[^/]+", "", regex=True)
    half = width // 2 - 1
    return [inert(path if len(path) <= width else f"{path[:half]}…{path[-half:]}") for path in bare]


def saying(figure: Figure, text: str) -> Figure:
    """The figure with a sentence in place of missing data."""
    axes = figure.axes[0]
    axes.text(0.5, 0.5, text, ha="center", va="center", transform=axes.transAxes)
    axes.set_axis_off()
    return figure


def inert(text: str) -> str:
    """An outside text, escaped for Matplotlib."""
    return "".join(character if character.isprintable() else "?" for character in text).replace("$", r"\$")


@in_style
def as_svg(figure: Figure, name: str = "figure") -> str:
    """The figure as an SVG element with an accessible title: equal figures give equal text.

    name: makes identifiers unique among the figures of a page.
    """
    from matplotlib.backends.backend_svg import FigureCanvasSVG

    out, behind = io.StringIO(), [figure.patch, *(axes.patch for axes in figure.axes)]
    looks = [{"facecolor": patch.get_facecolor(), "edgecolor": patch.get_edgecolor()} for patch in behind]
    for patch in behind:  # transparent background
        patch.set(facecolor="none", edgecolor="none")
    FigureCanvasSVG(figure).print_svg(out, metadata={"Date": None, "Creator": None})  # type: ignore[no-untyped-call]  # `savefig` would draw twice
    for patch, look in zip(behind, looks, strict=True):
        patch.set(**look)
    text = out.getvalue()
    text = re.sub(r'(\bid="|href="#|url\(#)', rf"\g<1>{name}-", text[text.index("<svg") :])
    title = figure.get_suptitle().replace("\\$", "$")
    return text.replace("<svg", f'<svg role="img" aria-label="{escape(title, quote=True)}"', 1)


@in_style
def as_png(figure: Figure) -> bytes:
    """The figure as a PNG on white: equal figures give equal bytes."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg

    out = io.BytesIO()
    figure.set_dpi(140)
    FigureCanvasAgg(figure).print_png(out, metadata={"Software": None})  # type: ignore[no-untyped-call]  # `savefig` would draw twice
    return out.getvalue()
