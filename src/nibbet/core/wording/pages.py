"""Sentences about pages other than verdicts: why search does not show them, lives, speed, events, changed titles."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from nibbet.core import sentences as say


def listed(parts: Iterable[tuple[pd.Series, pd.Series | str]], index: pd.Index) -> pd.Series:
    """The words that hold for each row, separated by commas. parts: (whether they hold, words)."""
    text = pd.Series("", index=index, dtype="str")
    for holds, words in parts:
        joint = text.ne("").map({True: ", ", False: ""}).astype("str")
        text = text.where(~holds, say.joined(text, joint, words))
    return text


def _day(values: pd.Series) -> pd.Series:
    return pd.to_datetime(values).dt.strftime("%Y-%m-%d").fillna("").astype("str")


def absent(pages: pd.DataFrame, facts: pd.DataFrame, copy: pd.Series, cause: pd.Series) -> pd.Series:
    """Pages: status, redirects_to, canonical_to, depth, age_days; facts: closed_by (a rule of robots.txt), index_state; copy: address of the
    page with the same content; cause: one of `core.absent.CAUSES`.
    """
    status = pages["status"].fillna(200).astype(int).astype("str")
    target = say.named(pages["redirects_to"])
    sentences: dict[str, pd.Series | str] = {
        "error": say.joined("It answers ", status, "."),
        "robots": say.joined("It is blocked by robots.txt (", say.named(facts["closed_by"]), ")."),
        "noindex": "It has a noindex.",
        "canonical": say.joined("Its canonical is ", say.named(pages["canonical_to"]), "."),
        "moved": say.joined("It redirects", say.joined(" to ", target).where(target.ne(""), ""), "."),
        "unlinked": "No page of the site links to it.",
        "deep": say.joined(
            "It is ", say.count(pages["depth"]), " clicks from the home page, farther than nearly all pages shown in search."
        ),
        "unfetched": "The server log shows no robot on it.",
        "not_indexed": say.joined('It is not indexed ("', say.named(facts["index_state"]), '").'),
        "duplicate": say.joined("It has the same content as ", say.named(copy), "."),
        "young": say.joined("It is ", say.plural(pages["age_days"], "day"), " old."),
        "no_demand": "No cause was found.",
    }
    return say.chosen(sentences, cause)


def why_absent(why: pd.Series, signs: pd.Series, also: pd.Series) -> pd.Series:
    """Why: as `absent`; signs: why the page matters; also: further causes, empty for none."""
    return say.joined(why, " It matters: ", signs, ".", say.joined(" Also: ", also, ".").where(also.ne(""), ""))


def lives(table: pd.DataFrame) -> pd.Series:
    """Table: life, height, peak, ready_by, since, depth, event_from, event_to."""
    height = table["height"].map("{:.1f}".format, na_action="ignore").astype("str")
    times = (1 - table["depth"]).map("{:.1f}".format, na_action="ignore").astype("str")
    peak, ready, since = (_day(table[name]) for name in ("peak", "ready_by", "since"))
    peak_days = say.joined("Nearly all clicks came from ", _day(table["event_from"]), " to ", _day(table["event_to"]))
    sentences: dict[str, pd.Series | str] = {
        "event over": say.joined(peak_days, "."),
        "one peak": say.joined(peak_days, ": an event, or a season of which the data hold one."),
        "short-lived": "Most clicks came in its first eight weeks.",
        "fading": say.joined("It has permanently lost ", say.share(table["depth"]), " of its clicks since the week of ", since, "."),
        "growing": say.joined("It has had ", times, " times its former clicks since the week of ", since, "."),
        "seasonal": say.joined("Its peak, around ", peak, ", has ", height, " times the mean; be ready by ", ready, "."),
        "evergreen": "No season, no lasting change, no event.",
        "unknown": "A year of clicks is needed.",
    }
    return say.chosen(sentences, table["life"])


def events(table: pd.DataFrame) -> pd.Series:
    """What is unusual, empty for nothing. Table: event, rate, usual, count, sessions, flag."""
    per = say.joined(say.hundreds(table["rate"]), ' "', table["event"], '" per 100 sessions (', say.count(table["count"]), " in ")
    counted = say.joined(
        per, say.plural(table["sessions"], "session"), "), compared with ", say.hundreds(table["usual"]), " on similar pages."
    )
    return counted.where(table["flag"] != "", "")


def slow(table: pd.DataFrame, poor: NDArray[np.bool_]) -> pd.Series:
    """What is poor, empty for nothing. Table: loading (s), responding (ms), shifting, form_factor; poor: pages x those three."""
    measured = [
        say.joined("more than ", say.place(table["loading"]), " s for the largest content (good: 2.5)"),
        say.joined("more than ", say.count(table["responding"]), " ms for a response (good: 200)"),
        say.joined("a layout shift above ", table["shifting"].map("{:.2f}".format), " (good: 0.1)"),
    ]
    text = listed([(pd.Series(poor[:, number], index=table.index), words) for number, words in enumerate(measured)], table.index)
    whom = say.joined(" on ", table["form_factor"]).where(table["form_factor"] != "", "")
    return say.joined("A quarter of visits", whom, " have ", text, ".").where(text != "", "")


def insecure(clicks: pd.Series) -> pd.Series:
    """Clicks: of the long window."""
    return say.joined("It is served over http instead of redirecting to https: ", say.plural(clicks, "click"), ".")


def title_changed(table: pd.DataFrame, state: pd.Series, least_days: int) -> pd.Series:
    """Table: changed (which text), changed_on, crawled_before, crawled_after, tells_from, effect with interval, clicks_after; state: better, worse, open
    (chance), few (clicks), early, dayless, old (under least_days before it).
    """
    before, after, ready = (pd.to_datetime(table[name]).dt.strftime("%Y-%m-%d").astype("str") for name in ("crawled_before", "crawled_after", "tells_from"))  # fmt: skip
    times, low, high = (table[name].map("{:.2f}".format).astype("str") for name in ("effect", "effect_low", "effect_high"))
    meant = (table["clicks_after"] / table["effect"]).fillna(0)
    when = say.joined("on ", after).where(table["changed_on"].notna(), say.joined("between ", before, " and ", after))
    whose = say.joined("its ", table["changed"], " changed ", when)
    chosen = say.joined(
        "Since ", whose, ", CTR at the same position is ", times, " times what it was (95% between ", low, " and ", high, "): "
    )
    its = say.joined("I", whose.str.slice(1))
    counted = say.joined(say.plural(table["clicks_after"], "click"), " where ", say.count(meant), " were expected.")
    sentences: dict[str, pd.Series | str] = {
        "better": say.joined(chosen, counted),
        "worse": say.joined(chosen, counted, " Restore the old text, or improve it."),
        "open": say.joined(chosen, "this may be chance."),
        "few": say.joined(its, "; there are too few clicks to measure the effect."),
        "early": say.joined(its, "; it is too early to measure the effect before ", ready, "."),
        "dayless": say.joined(its, "; without daily rows the effect is unknown."),
        "old": say.joined(its, f"; the data do not cover {least_days} days before that."),
    }
    return say.chosen(sentences, state)
