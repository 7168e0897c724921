"""Figures: each takes a finished table and returns a Matplotlib figure; saving is another call.

All figures follow one style: the title states the finding, a line below it names source and window, the darker colour carries the finding,
and colour is always combined with a shape, a hatch or a word.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
import pandas as pd

from nibbet.core.verdict import IDLE, Verdict
from nibbet.core.windows import whole_weeks
from nibbet.render.canvas import INK, MAIN, SECOND, SHADE, blank, in_style, inert, label_beside, saying, short_paths, titled

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from nibbet.core.curve import Curve
    from nibbet.core.windows import Windows

#: dots that can be distinguished; the largest are drawn
MOST_DOTS = 2500
#: impressions from which a query of a page is drawn
LEAST_SHOWN = 20
#: the verdicts: colour and hatch
VERDICT_LOOKS = {
    Verdict.REFRESH: (MAIN, ""),
    Verdict.EXPAND: ("#58a8bd", "//"),
    Verdict.CONSOLIDATE: (SECOND, ""),
    Verdict.PRUNE: ("#8c3b2e", "xx"),
    Verdict.WATCH: ("#b9a44c", ".."),
    Verdict.KEEP: ("#d7dfe4", ""),
}


@in_style
def trend(days: pd.DataFrame, windows: Windows) -> Figure:
    """Clicks a week with the recent and reference windows shaded.

    Args:
        days: date, clicks; one row per complete day.
    """
    figure = blank()
    axes = figure.axes[0]
    weeks = whole_weeks(days, windows.as_of)
    for window, label in ((windows.reference, "reference"), (windows.recent, "recent")):
        axes.axvspan(pd.Timestamp(window.start), pd.Timestamp(window.end), color=SHADE)  # type: ignore[arg-type]
        axes.text(pd.Timestamp(window.start), 1.01, f" {label}", transform=axes.get_xaxis_transform(), va="bottom", fontsize=9)  # type: ignore[arg-type]
    axes.plot(weeks["end"], weeks["clicks"], color=MAIN, linewidth=2)
    axes.set_ylim(bottom=0)
    axes.set_ylabel("clicks a week")
    axes.yaxis.set_major_formatter(lambda value, _: f"{value:,.0f}")
    sums = [
        days["clicks"][days["date"].between(pd.Timestamp(w.start), pd.Timestamp(w.end))].sum() for w in (windows.reference, windows.recent)
    ]
    finding = f"{sums[1]:,.0f} clicks in {windows.recent.days} days"
    if sums[0] > 0:
        finding += f", {sums[1] / sums[0] - 1:+.0%} against {'the same days a year earlier' if windows.reference_kind == 'year' else 'the preceding days'}"
    return titled(figure, finding, f"Search, whole weeks up to {windows.as_of}; recent {windows.recent}, reference {windows.reference}")


#: the parts of a change: colour and hatch, so that colour is never the only sign
PART_LOOKS = {
    "demand": ("#8fa3ad", ""),
    "rank": (MAIN, "///"),
    "pull": (SECOND, "..."),
    "access": ("#c9b458", "xx"),
    "untold": ("#d5d5d5", "++"),
}
PART_NAMES = {"access": "pages that came or went", "untold": "untold"}


@in_style
def movers(changes: pd.DataFrame, windows: Windows | None = None, *, most: int = 7) -> Figure:
    """The pages that lost and gained most beyond chance, each change with its parts.

    Args:
        changes: rows of level page from `compare`: key, change, real and the parts of the change; windows: those compared.
    """
    rows = changes[changes["real"].astype(bool)].dropna(subset=["demand"])
    lost = rows[rows["change"] < 0].nsmallest(most, "change", keep="first")
    won = rows[rows["change"] > 0].nlargest(most, "change", keep="first")
    shown = pd.concat([lost, won.iloc[::-1]])
    figure = blank(height=max(1.6, 0.34 * len(shown) + 1.1))
    axes = figure.axes[0]
    if shown.empty:
        return saying(figure, "No page changed beyond chance.")
    place = np.arange(len(shown))[::-1]
    left, right = np.zeros(len(shown)), np.zeros(len(shown))
    drawn = [part for part in PART_LOOKS if part in shown and (shown[part].abs().sum() >= 0.5 or part in ("demand", "rank", "pull"))]
    for part in drawn:
        (colour, hatch), size = PART_LOOKS[part], shown[part].to_numpy(float)
        start = np.where(size < 0, left, right)
        axes.barh(place, size, left=start, color=colour, hatch=hatch, edgecolor="white", linewidth=0.4, height=0.68, label=part)
        left, right = left + np.minimum(size, 0), right + np.maximum(size, 0)
    axes.scatter(shown["change"], place, marker="D", s=16, color=INK, zorder=3, label="change")
    axes.axvline(0, color=INK, linewidth=0.8)
    axes.set_yticks(place, short_paths(shown["key"]))
    axes.tick_params(axis="y", length=0)
    axes.xaxis.set_major_formatter(lambda value, _: f"{value:+,.0f}" if value else "0")
    axes.set_xlabel("clicks, recent less reference")
    axes.legend(frameon=False, ncols=6, loc="lower left", bbox_to_anchor=(0.0, 1.0), handlelength=1.4, fontsize=9, borderaxespad=0.1)
    count = (rows["change"] < 0).sum(), (rows["change"] > 0).sum()
    most_by = str(rows[drawn].abs().sum().idxmax())
    finding = f"{count[0]:,} pages lost and {count[1]:,} gained beyond chance, most of it by {PART_NAMES.get(most_by, most_by)}"
    return titled(figure, finding, f"Search, {windows.recent} less {windows.reference}" if windows else "")


@in_style
def topics_open(topics: pd.DataFrame, *, most: int = 14) -> Figure:
    """Topics that no page answers, or only partly, by possible gain, with 80% intervals and demand.

    Args:
        topics: from `Site.topics`: label, proposal, volume, volume_kind, gain, gain_low, gain_high.
    """
    result = topics[(topics["proposal"] != "none") & (topics["gain"] > 0)]
    shown = result.nlargest(most, "gain", keep="first")
    figure = blank(height=max(1.6, 0.34 * len(shown) + 1.2))
    axes = figure.axes[0]
    if shown.empty:
        return saying(figure, "Every topic of any size is answered.")
    place = np.arange(len(shown))[::-1]
    gain = shown["gain"].to_numpy(float)
    for name, colour, hatch in (("new page", MAIN, ""), ("extend", SECOND, "//"), ("translate", INK, ".."), ("restore", SECOND, "xx")):
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
        label_beside(axes, right, y, f"{volume:,.0f}")
    axes.set_yticks(place, [inert(label if len(label) <= 38 else label[:37] + "…") for label in shown["label"]])
    axes.tick_params(axis="y", length=0)
    axes.set_xlim(0, float(shown["gain_high"].max()) * 1.32)  # room for the legend next to the numbers
    kinds = " or ".join(shown["volume_kind"].unique())
    axes.set_xlabel(f"clicks a month if answered (bar), 80% between (line); {kinds} (number)")
    axes.legend(frameon=False, loc="lower right", fontsize=9)
    finding = f"{len(result):,} topics without an answer: {result['gain'].sum():,.0f} clicks a month within reach"
    return titled(figure, finding, f"Search and demand; the {len(shown)} with most to gain")


@in_style
def ctr_curve(curve: Curve, pages: pd.DataFrame | None = None, windows: Windows | None = None) -> Figure:
    """The CTR of the site by position for queries without the brand, with its 95% band, per device.

    Args:
        pages: position, impressions, ctr of pages, drawn as dots from 300 impressions.
    """
    figure = blank(height=3.4)
    axes = figure.axes[0]
    rows = curve.rates[~curve.rates["brand"].astype(bool)]
    styles = ["-", "--", ":", "-."]
    colours = [MAIN, SECOND, INK, "#6a4c93"]
    kinds = rows.groupby(["device", "surface"])["impressions"].sum().sort_values(ascending=False)
    if not len(kinds):
        return saying(figure, "No search row tells how often results are chosen at a place.")
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
        dots = pages[(pages["impressions"] >= 300) & pages["position"].between(1, 22)].nlargest(MOST_DOTS, "impressions", keep="first")
        size = np.clip(np.sqrt(dots["impressions"].to_numpy(float)) / 5, 3, 40)
        axes.scatter(dots["position"], dots["ctr"], s=size, color=INK, alpha=0.35, linewidth=0, zorder=0, label="one page")
    axes.set_xscale("log")
    axes.set_xticks([1, 2, 3, 5, 10, 20], ["1", "2", "3", "5", "10", "20"])
    axes.minorticks_off()
    axes.yaxis.set_major_formatter(lambda value, _: f"{value:.0%}")
    axes.set_xlabel("position")
    axes.set_ylabel("clicks per impression")
    axes.set_ylim(bottom=0)
    axes.legend(frameon=False)
    first = rows[(rows["device"] == kinds.index[0][0]) & (rows["surface"] == kinds.index[0][1])].set_index("bin")["rate"]
    labels = [f"{first[b]:.0%} at place {p}" for p, b in ((1, 0), (3, 11), (10, 23)) if b in first.index]
    span = f", {windows.long}" if windows else ""
    return titled(
        figure,
        f"Chosen by {', '.join(labels)}",
        f"Search without the brand{span}; band: 95% of the truth; a dot: a page with 300 impressions and more",
    )


@in_style
def positions(queries: pd.DataFrame, openings: pd.DataFrame, windows: Windows | None = None, *, least: int = LEAST_SHOWN) -> Figure:
    """Positions of the site by impressions of queries, and where clicks are within reach.

    Args:
        queries: query, page, position, impressions (the query map); openings: page, query, kind, gain. least: impressions of a query drawn.
    """
    figure = blank(height=4.2)
    axes = figure.axes[0]
    rows = queries[queries["query"].notna() & queries["page"].notna() & queries["position"].notna() & (queries["impressions"] >= least)]
    if rows.empty:
        return saying(figure, "No query of a page with a known place is shown often enough to draw.")
    dots = rows.nlargest(MOST_DOTS, "impressions", keep="first")
    axes.scatter(dots["position"], dots["impressions"], s=9, color="#b6c2ca", linewidth=0, label="a query of a page")
    result = openings.astype({"page": "str", "query": "str"}).merge(rows[["page", "query", "impressions"]], on=["page", "query"])
    for kind, colour, marker in (("climb", MAIN, "^"), ("snippet", SECOND, "s"), ("stray", INK, "x")):
        part = result[result["kind"] == kind].nlargest(150, "gain", keep="first")
        size = np.clip(6 * np.sqrt(part["gain"].clip(lower=1).to_numpy(float)), 12, 160)
        style = {"linewidth": 1.1} if marker == "x" else {"edgecolor": "white", "linewidth": 0.4}
        label = {"climb": "could climb", "snippet": "seldom chosen", "stray": "drawn astray"}[kind]
        axes.scatter(part["position"], part["impressions"], s=size, color=colour, marker=marker, alpha=0.8, label=label, **style)
    axes.set_xscale("log")
    axes.set_yscale("log")
    axes.set_xticks([1, 2, 3, 5, 10, 20, 50], ["1", "2", "3", "5", "10", "20", "50"])
    axes.minorticks_off()
    axes.set_xlim(0.93, max(25.0, float(rows["position"].quantile(0.995))))
    axes.yaxis.set_major_formatter(lambda value, _: f"{value:,.0f}")
    axes.set_xlabel("position")
    axes.set_ylabel("impressions")
    axes.legend(frameon=False, fontsize=9, ncols=4, loc="lower left", bbox_to_anchor=(0.0, 1.0), handletextpad=0.2, borderaxespad=0.1)
    sums = openings.groupby("kind")["gain"].sum()
    labels = [
        f"{sums[k]:,.0f} {w}"
        for k, w in (("climb", "by climbing"), ("snippet", "by better titles"), ("stray", "by new answers"))
        if k in sums
    ]
    span = f", {windows.recent}" if windows else ""
    return titled(
        figure, f"Clicks a month within reach: {', '.join(labels) or 'none'}", f"Search{span}; the larger a mark, the more it could gain"
    )


@in_style
def verdict_overview(pages: pd.DataFrame, *, most: int = 12) -> Figure:
    """Number of pages by section and verdict.

    Args:
        pages: the ledger: section, verdict (null where there is none).
    """
    counts = pd.crosstab(pages["section"], pages["verdict"]).reindex(columns=list(VERDICT_LOOKS), fill_value=0)
    whole = counts.sum(axis=1)
    shown = counts.loc[whole.sort_values(ascending=False, kind="stable").index[:most]]
    figure = blank(height=max(1.8, 0.32 * len(shown) + 1.3))
    axes = figure.axes[0]
    if shown.empty:
        return saying(figure, "No page has a verdict.")
    place, left = np.arange(len(shown))[::-1], np.zeros(len(shown))
    for verdict, (colour, hatch) in VERDICT_LOOKS.items():
        size = shown[verdict].to_numpy(float)
        axes.barh(place, size, left=left, color=colour, hatch=hatch, edgecolor="white", linewidth=0.4, height=0.7, label=verdict)
        for y, x, n in zip(place, left, size, strict=True):
            if n >= 0.035 * whole.max():
                dark = verdict in (Verdict.REFRESH, Verdict.PRUNE)
                box = {"boxstyle": "round,pad=0.12", "facecolor": colour, "edgecolor": "none"}
                axes.text(x + n / 2, y, f"{n:,.0f}", ha="center", va="center", fontsize=8, color="white" if dark else INK, bbox=box)
        left += size
    axes.set_yticks(place, short_paths(shown.index.to_series()))
    axes.tick_params(axis="y", length=0)
    axes.set_xlabel("pages")
    axes.xaxis.set_major_formatter(lambda value, _: f"{value:,.0f}")
    axes.legend(frameon=False, ncols=6, loc="lower left", bbox_to_anchor=(0.0, 1.0), handlelength=1.4, fontsize=9, borderaxespad=0.1)
    act = counts.drop(columns=list(IDLE)).sum(axis=1)
    first = act.sort_values(ascending=False, kind="stable").index[0]
    finding = f"{act.sum():,} of {whole.sum():,} pages ask for work, most in {first} ({act[first]:,} of {whole[first]:,})"
    return titled(figure, finding, f"Verdicts by section{'' if len(counts) <= most else f', the {most} largest of {len(counts)}'}")


@in_style
def rivals(groups: pd.DataFrame, pages: pd.DataFrame, *, most: int = 10) -> Figure:
    """Pages that compete for the same queries: each group on a line, its members by clicks.

    Args:
        groups: group, page, survivor, turn_taking, gain; pages: page, clicks (the ledger).
    """
    if groups.empty:
        return saying(blank(height=1.8), "No pages compete for the same queries.")
    rows = groups.merge(pages[["page", "clicks"]], on="page", how="left")
    heads = rows[rows["survivor"].astype(bool)].sort_values(["gain", "page"], ascending=[False, True])
    shown = heads.head(most)
    figure = blank(height=max(1.8, 0.36 * len(shown) + 1.2))
    axes = figure.axes[0]
    place = pd.Series(np.arange(len(shown))[::-1], index=shown["group"].to_numpy())
    members = rows[rows["group"].isin(place.index)]
    ends = members.groupby("group")["clicks"].agg(["min", "max"])
    axes.hlines(place[ends.index], ends["min"], ends["max"], color="#b6c2ca", linewidth=1.5)
    for stays, colour, fill, label in ((False, SECOND, "white", "merges into it"), (True, MAIN, MAIN, "survivor")):
        part = members[members["survivor"].astype(bool) == stays]
        axes.scatter(part["clicks"], place[part["group"]], s=42, facecolor=fill, edgecolor=colour, linewidth=1.4, label=label, zorder=3)
    right = float(members["clicks"].max()) * 1.04
    for y, gain in zip(place, shown["gain"], strict=True):
        axes.text(right, y, f"+{gain:,.0f}", va="center", fontsize=9)
    axes.set_yticks(place, short_paths(shown["page"]))
    axes.tick_params(axis="y", length=0)
    axes.set_xlim(left=-right * 0.02, right=right * 1.08)
    axes.set_xlabel("clicks of each page; at the right clicks a month to gain by merging")
    axes.xaxis.set_major_formatter(lambda value, _: f"{value:,.0f}")
    axes.legend(frameon=False, ncols=2, loc="lower left", bbox_to_anchor=(0.0, 1.0), fontsize=9, borderaxespad=0.1)
    finding = f"{len(heads):,} groups of pages compete for the same queries: {heads['gain'].sum():,.0f} clicks a month to gain"
    return titled(figure, finding, "Search, recent window" + ("" if len(heads) <= most else f"; the {most} with most to gain"))


@in_style
def season_ahead(seasons: pd.DataFrame, *, most: int = 12) -> Figure:
    """The season of each section in the coming year, and by when work for it should be finished.

    Args:
        seasons: level, key, height (of the peak, relative to its mean), peak, begins, ready_by, second_peak (days, or null).
    """
    shown = seasons[seasons["peak"].notna() & (seasons["level"] == "section")].sort_values(["peak", "key"]).head(most)
    figure = blank(height=max(1.8, 0.34 * len(shown) + 1.2))
    axes = figure.axes[0]
    if shown.empty:
        return saying(figure, "No section has a season that a year of data tells.")
    place = np.arange(len(shown))[::-1]
    days = {name: pd.to_datetime(shown[name]) for name in ("ready_by", "begins", "peak", "second_peak")}
    axes.hlines(place, days["ready_by"], days["begins"], color=SECOND, linewidth=2, linestyle=":")
    axes.hlines(place, days["begins"], days["peak"], color=MAIN, linewidth=6, alpha=0.35)
    for name, colour, marker, label in (
        ("ready_by", SECOND, "D", "be ready by"),
        ("begins", MAIN, "|", "begins"),
        ("peak", MAIN, "o", "peak"),
        *((("second_peak", MAIN, "^", "second peak"),) if days["second_peak"].notna().any() else ()),
    ):
        axes.scatter(days[name], place, s=46, color=colour, marker=marker, label=label, zorder=3)
    for day, y, height in zip(days["peak"], place, shown["height"], strict=True):
        axes.annotate(f"{height:.1f}x", (day, y), xytext=(8, 0), textcoords="offset points", va="center", fontsize=9)
    axes.set_yticks(place, short_paths(shown["key"]))
    axes.tick_params(axis="y", length=0)
    axes.grid(axis="x", color=SHADE, linewidth=0.8)
    axes.set_axisbelow(True)
    axes.legend(frameon=False, ncols=4, loc="lower left", bbox_to_anchor=(0.0, 1.0), fontsize=9, borderaxespad=0.1)
    top = shown.sort_values(["height", "key"], ascending=[False, True]).iloc[0]
    finding = f"{top['key']} has the strongest season: {top['height']:.1f} times its mean about {pd.Timestamp(top['peak']):%Y-%m-%d}"
    return titled(figure, finding, "Search, all weeks read; the number is the peak over the section's mean")


@in_style
def topic_map(topics: pd.DataFrame, *, named: int = 8) -> Figure:
    """All topics by demand and position; those without an answer are labelled.

    Args:
        topics: label, volume, volume_kind, position, served, gain.
    """
    figure = blank(height=4.4)
    axes = figure.axes[0]
    rows = (
        topics[topics["volume"] > 0]
        .nlargest(MOST_DOTS, "volume", keep="first")
        .assign(place=lambda t: t["position"].fillna(60.0).clip(upper=60.0))
    )
    if rows.empty or (topics.loc[topics["served"] == "covered", "position"].isna().all() and rows["served"].eq("covered").any()):
        return saying(figure, "No topic is wanted." if rows.empty else "No search row tells where the site stands.")
    for served, colour, marker in (("covered", "#9fb2bd", "o"), ("partly", SECOND, "s"), ("uncovered", MAIN, "D")):
        part = rows[rows["served"] == served]
        if part.empty:
            continue
        axes.scatter(
            part["place"],
            part["volume"],
            s=20 if served == "covered" else 34,
            color=colour,
            marker=marker,
            alpha=0.8,
            linewidth=0,
            label=served,
        )
    axes.set_xscale("log")
    axes.set_yscale("log")
    axes.set_xticks([1, 2, 3, 5, 10, 20, 60], ["1", "2", "3", "5", "10", "20", "not shown"])
    axes.minorticks_off()
    axes.set_xlim(0.93, 110)
    axes.yaxis.set_major_formatter(lambda value, _: f"{value:,.0f}")
    open_ = rows[(rows["served"] != "covered") & (rows["gain"] > 0)].nlargest(named, "gain", keep="first").sort_values("volume")
    heights = np.log(open_["volume"].to_numpy(float))
    if len(open_):
        span = np.log(float(rows["volume"].max()) / max(float(rows["volume"].min()), 1.0))
        step = max(span, 0.5) / 22
        spread = np.maximum.accumulate(heights - step * np.arange(len(heights))) + step * np.arange(len(heights))  # labels do not overlap
        for label, x, y, at in zip(open_["label"], open_["place"], open_["volume"], np.exp(spread), strict=True):
            axes.annotate(
                inert(label if len(label) <= 30 else label[:29] + "…"),
                (x, y),
                xytext=(21 if x < 30 else 66, at),
                va="center",
                fontsize=8,
                arrowprops={"arrowstyle": "-", "color": "#9aa7b0", "linewidth": 0.6, "shrinkA": 1, "shrinkB": 3, "relpos": (0.0, 0.5)},
            )
    axes.set_xlabel("position")
    axes.set_ylabel(" or ".join(rows["volume_kind"].unique()))
    if axes.get_legend_handles_labels()[0]:
        axes.legend(frameon=False, fontsize=9, ncols=3, loc="lower left", bbox_to_anchor=(0.0, 1.0), borderaxespad=0.1)
    share = rows.groupby("served")["volume"].sum() / rows["volume"].sum()
    summary = ", ".join(f"{share[name]:.0%} {name}" for name in ("covered", "partly", "uncovered") if name in share)
    return titled(figure, f"Of what is wanted, {summary}", "Topics by volume and the site's position; those with most to gain are named")


@in_style
def link_flows(flows: pd.DataFrame, *, most: int = 10) -> Figure:
    """Where the links of each section lead, compared with demand.

    Args:
        flows: section_from, section_to, flow, received, demand_share, from `core.linking.link_flows`.
    """
    figure = blank(height=4.6)
    axes = figure.axes[0]
    if flows.empty:
        return saying(figure, "No source tells of the links of the text.")
    size: pd.Series = flows.groupby("section_from")["flow"].sum().add(flows.groupby("section_to")["flow"].sum(), fill_value=0.0)
    shown = size.sort_index().nlargest(most, keep="first").index
    rows = flows.assign(**{end: flows[end].where(flows[end].isin(shown), "others") for end in ("section_from", "section_to")})
    rows = rows.groupby(["section_from", "section_to"])[["flow"]].sum().reset_index()
    sections = [*(name for name in shown if name in {*rows["section_from"], *rows["section_to"]}), *(["others"] if "others" in {*rows["section_from"], *rows["section_to"]} else [])]  # fmt: skip
    wants = flows.drop_duplicates("section_to").set_index("section_to")[["received", "demand_share"]]
    starved = set(wants.index[wants["received"] < wants["demand_share"] / 2])
    gap, free = 0.018, dict.fromkeys(((side, name) for side in (0, 1) for name in sections), 0.0)
    for side, end in ((0, "section_from"), (1, "section_to")):
        sums, at = rows.groupby(end)["flow"].sum().reindex(sections).fillna(0.0), 0.0
        for name in sections:
            tall = float(sums[name])
            free[(side, name)] = at
            colour = SECOND if side and name in starved else MAIN
            axes.bar(side, tall, bottom=-at - tall, width=0.025, color=colour)
            label = f"{name}  {tall:.0%}" + (f" (searched: {wants.loc[name, 'demand_share']:.0%})" if side and name in wants.index else "")
            if tall > 0.004 or (side and name in starved):
                axes.text(
                    side + (0.03 if side else -0.03), -at - tall / 2, inert(label), ha="left" if side else "right", va="center", fontsize=9
                )
            at += tall + max(gap, 0.036 - tall)
    bend = 1 / (1 + np.exp(-np.linspace(-6, 6, 40)))
    order = {name: number for number, name in enumerate(sections)}
    ribbons = rows.sort_values(["section_from", "section_to"], key=lambda ends: ends.map(order))
    for start, end, wide in zip(ribbons["section_from"].astype("str"), ribbons["section_to"].astype("str"), ribbons["flow"], strict=True):
        left, right = free[(0, start)], free[(1, end)]
        free[(0, start)], free[(1, end)] = left + wide, right + wide
        top = -(left + (right - left) * bend)
        colour = SECOND if end in starved else "#9fb2bd" if start == end else MAIN
        axes.fill_between(np.linspace(0.0125, 0.9875, 40), top, top - wide, color=colour, alpha=0.35, linewidth=0)
    axes.set_xlim(-0.45, 1.6)
    axes.set_ylim(top=0.02)
    axes.set_axis_off()
    short = (wants["demand_share"] - wants["received"]).sort_index()
    worst = short.index.astype("str")[int(short.to_numpy(float).argmax())]
    finding = f"{worst} gets {wants.loc[worst, 'received']:.0%} of the readers that links pass on, and has {wants.loc[worst, 'demand_share']:.0%} of the impressions"
    return titled(
        figure,
        finding,
        "Links of the text by section, navigation aside: from the left to the right; orange: under half of what its share of searches asks",
    )


@in_style
def topic_queries(queries: pd.DataFrame, topic: str, *, most: int = 20) -> Figure:
    """The queries of one topic by volume, with the position of the site for each.

    Args:
        queries: query, volume, position (null where not shown), as `Brief.queries`.
    """
    shown = queries.head(most)
    figure = blank(height=max(1.8, 0.3 * len(shown) + 1.1))
    axes = figure.axes[0]
    if shown.empty:
        return saying(figure, "The topic has no query.")
    place, seen = np.arange(len(shown))[::-1], shown["position"].notna().to_numpy()
    volume = shown["volume"].to_numpy(float)
    for which, colour, hatch, label in ((seen, MAIN, "", "shown"), (~seen, "#d7dfe4", "//", "not shown")):
        if which.any():
            axes.barh(place[which], volume[which], color=colour, hatch=hatch, edgecolor="white", linewidth=0.4, height=0.68, label=label)
    for y, wide, position in zip(place, volume, shown["position"], strict=True):
        label_beside(axes, wide, y, f"{position:.1f}" if pd.notna(position) else "–")
    axes.set_yticks(place, [inert(text if len(text) <= 46 else text[:45] + "…") for text in shown["query"]])
    axes.tick_params(axis="y", length=0)
    axes.set_xlim(0, float(volume.max()) * 1.1 + 1)
    axes.xaxis.set_major_formatter(lambda value, _: f"{value:,.0f}")
    axes.set_xlabel("volume; at the end of each bar the position of the site")
    if not seen.all():
        axes.legend(frameon=False, loc="lower right", fontsize=9)
    where = f"shown for {seen.sum()} of {len(shown)}"
    return titled(figure, f"{topic}: {len(queries):,} queries, {where}", "Search and demand")
