"""The first screen of the report: five key figures with their change, what to do first, what is new."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import pandas as pd

from nibbet.core.common_falls import fell_together
from nibbet.core.tables import records, to_act_on
from nibbet.render.terminal import cell_text
from nibbet.tables import NEW_SINCE

if TYPE_CHECKING:
    from nibbet.results import Results

#: actions, new pages and coming seasons that are listed
MOST = 3
#: weeks before its preparation within which a season is listed
AHEAD = 8
#: measures of visits by preference; one of each of the first two available groups is shown
VISITS = ("sessions from search", "sessions"), ("conversions", "conversions from search")


def glance(site: Results) -> dict[str, Any]:
    """figures (name, value, told: how it changed), actions (rows of verdicts), news (sentences)."""
    actions = to_act_on(site.verdicts()).sort_values(["gain", "page"], ascending=[False, True]).head(MOST)
    return {"figures": _figures(site), "actions": records(actions), "news": _news(site)}


def _figures(site: Results) -> list[dict[str, str]]:
    changes, pages = site.compare(), site.pages()
    known = changes[changes["level"] == "site"].set_index("measure")
    if known.empty:
        sums = {"clicks": pages["clicks"].sum(), "impressions": pages["impressions"].sum()}
        sums |= {name: pages[name].sum() for name in ("sessions", "conversions") if pages[name].notna().any()}
        share = {"CTR": sums["clicks"] / sums["impressions"]} if sums["impressions"] else {}
        return [{"name": name, "value": _text(value, name), "change": ""} for name, value in (sums | share).items()]
    clicks = known.loc["clicks"]
    pairs: dict[str, tuple[Any, Any]] = {
        "clicks": (clicks["recent"], clicks["reference"]),
        "impressions": (clicks["impressions"], clicks["impressions_reference"]),
    }
    if all(count > 0 for count in pairs["impressions"]):
        shares: list[Any] = [one / many for one, many in zip(*pairs.values(), strict=True)]
        pairs["CTR"] = (shares[0], shares[1])
    for names in VISITS:
        if name := next((name for name in names if name in known.index), ""):
            pairs[name] = (known.loc[name, "recent"], known.loc[name, "reference"])
    proof, windows = known["real"].to_dict(), site.windows
    changes_of = {name: _change(now, then, name, proof.get(name)) for name, (now, then) in pairs.items()}
    if not windows.are_counted_alike:
        changes_of |= {name: f"counted differently before {windows.counted_since}" for name in ("impressions", "CTR") if name in changes_of}
    return [{"name": name, "value": _text(now, name), "change": changes_of[name]} for name, (now, _) in pairs.items()]


def _text(value: Any, name: str) -> str:
    return f"{value:.2%}" if name == "CTR" else cell_text(round(float(value)), "clicks")


def _change(now: float, then: float, name: str, real: Any) -> str:
    """The change of a figure, and whether it is more than noise if that was judged."""
    if not then > 0:
        return ""
    proof = "" if real is None else ", beyond noise" if real else ", no more than usual"
    return f"{now / then - 1:+.0%} from {_text(then, name)}{proof}"


def _news(site: Results) -> list[str]:
    lines, root = fell_together(site.pages())[:MOST], site.config.site.home.rstrip("/")
    fresh = site.table("new_pages")
    if len(fresh):
        best = fresh.sort_values(["start_rank", "start_clicks", "page"], ascending=[False, False, True]).head(MOST)
        names = ", ".join(f"{str(row['page']).removeprefix(root)} ({row['start_clicks']:,.0f} clicks)" for row in records(best))
        lines.append(
            f"{len(fresh):,} page{'s' if len(fresh) > 1 else ''} first seen in {NEW_SINCE} days; best starts for their age: {names}."
        )
    proposals = site.topics().query("proposal != 'none'")
    if len(proposals):
        lines.append(f"{len(proposals):,} topic{'s' if len(proposals) > 1 else ''} to write, extend, translate or restore, first {proposals['label'].iloc[0]}.")  # fmt: skip
    seasons = site.seasons()
    ready = pd.to_datetime(seasons["ready_by"])
    as_of = pd.Timestamp(site.windows.as_of)
    soon = seasons[(seasons["level"] == "section") & (ready > as_of) & (ready <= as_of + pd.Timedelta(weeks=AHEAD))]
    for row in records(soon.assign(ready_by=ready[soon.index]).sort_values(["ready_by", "key"]).head(MOST)):
        lines.append(f"{row['key']}: its season begins soon; to be ready by {row['ready_by']:%Y-%m-%d}.")
    losses = site.losses().head(1)
    for row in records(losses):
        lines.append(f"Losing together: {row['subject']}, {row['queries']:,} queries of {str(row['page']).removeprefix(root)}, from {row['reference']:,.0f} to {row['recent']:,.0f} clicks.")  # fmt: skip
    return lines
