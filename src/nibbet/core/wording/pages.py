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
        "robots": say.joined("robots.txt closes it (", say.named(facts["closed_by"]), ")."),
        "noindex": "It asks to be kept out of the index.",
        "canonical": say.joined("It names ", say.named(pages["canonical_to"]), " as its canonical."),
        "moved": say.joined("It redirects", say.joined(" to ", target).where(target.ne(""), ""), "."),
        "unlinked": "No page of the site links to it.",
        "deep": say.joined(
            "It is ", say.count(pages["depth"]), " clicks from the home page, farther than nearly all pages that are shown."
        ),
        "unfetched": "No robot has fetched it, as far as the log tells.",
        "not_indexed": say.joined('The index does not hold it ("', say.named(facts["index_state"]), '").'),
        "duplicate": say.joined("It says the same as ", say.named(copy), "."),
        "young": say.joined("It is ", say.plural(pages["age_days"], "day"), " old."),
        "no_demand": "No fault is found.",
    }
    return say.chosen(sentences, cause)


def why_absent(why: pd.Series, signs: pd.Series, also: pd.Series) -> pd.Series:
    """Why: as `absent`; signs: why the page matters; also: further causes, empty for none."""
    return say.joined(why, " It matters: ", signs, ".", say.joined(" Then also: ", also, ".").where(also.ne(""), ""))


def lives(table: pd.DataFrame) -> pd.Series:
    """Table: life, height, peak, ready_by, since, depth, event_from, event_to."""
    height = table["height"].map("{:.1f}".format, na_action="ignore").astype("str")
    times = (1 - table["depth"]).map("{:.1f}".format, na_action="ignore").astype("str")
    peak, ready, since = (_day(table[name]) for name in ("peak", "ready_by", "since"))
    sentences: dict[str, pd.Series | str] = {
        "event over": say.joined("Nearly all clicks came from ", _day(table["event_from"]), " to ", _day(table["event_to"]), "."),
        "short-lived": "Most clicks came in its first eight weeks.",
        "fading": say.joined("It has lost ", say.share(table["depth"]), " for good since the week of ", since, "."),
        "growing": say.joined("It has ", times, " times its former clicks, lastingly since the week of ", since, "."),
        "seasonal": say.joined("At its peak, around ", peak, ", it has ", height, " times its mean; be ready by ", ready, "."),
        "evergreen": "No season, no lasting change, no event.",
        "unknown": "A year of clicks is needed to tell.",
    }
    return say.chosen(sentences, table["life"])


def events(table: pd.DataFrame) -> pd.Series:
    """What is unusual, empty for nothing. Table: event, rate, usual, count, sessions, flag."""
    per = say.joined(say.hundreds(table["rate"]), " ", table["event"], " per 100 sessions")
    often = say.joined(per, ", where pages like it have ", say.hundreds(table["usual"]))
    counted = say.joined(often, ": ", say.count(table["count"]), " in ", say.plural(table["sessions"], "session"), ".")
    return counted.where(table["flag"] != "", "")


def slow(table: pd.DataFrame, poor: NDArray[np.bool_]) -> pd.Series:
    """What is poor, empty for nothing. Table: loading (s), responding (ms), shifting, form_factor; poor: pages x those three."""
    measured = [
        say.joined("its largest content stands after ", say.place(table["loading"]), " s (good: 2.5)"),
        say.joined("it answers after ", say.count(table["responding"]), " ms (good: 200)"),
        say.joined("it jumps by ", table["shifting"].map("{:.2f}".format), " (good: 0.1)"),
    ]
    text = listed([(pd.Series(poor[:, number], index=table.index), words) for number, words in enumerate(measured)], table.index)
    whom = say.joined(" on ", table["form_factor"]).where(table["form_factor"] != "", "")
    return say.joined("For a quarter of visits", whom, " ", text, ".").where(text != "", "")


def insecure(clicks: pd.Series) -> pd.Series:
    """Clicks: of the long window."""
    return say.joined("It answers over http instead of leading to https: ", say.plural(clicks, "click"), ".")


def title_changed(table: pd.DataFrame, state: pd.Series, least_days: int) -> pd.Series:
    """Table: changed (which text), changed_on, crawled_before, crawled_after, tells_from, effect with interval, clicks_after; state: better, worse, open
    (chance), few (clicks), early, dayless, old (under least_days before it).
    """
    before, after, ready = (pd.to_datetime(table[name]).dt.strftime("%Y-%m-%d").astype("str") for name in ("crawled_before", "crawled_after", "tells_from"))  # fmt: skip
    times, low, high = (table[name].map("{:.2f}".format).astype("str") for name in ("effect", "effect_low", "effect_high"))
    meant = (table["clicks_after"] / table["effect"]).fillna(0)
    when = say.joined("on ", after).where(table["changed_on"].notna(), say.joined("between ", before, " and ", after))
    whose = say.joined("its ", table["changed"], " changed ", when)
    chosen = say.joined("Chosen ", times, " times as often at the same place since ", whose, " (95% ", low, " to ", high, "): ")
    its = say.joined("I", whose.str.slice(1))
    counted = say.joined(say.plural(table["clicks_after"], "click"), " where ", say.count(meant), " were to be expected.")
    sentences: dict[str, pd.Series | str] = {
        "better": say.joined(chosen, counted),
        "worse": say.joined(chosen, counted, " Put the old text back, or better it."),
        "open": say.joined(chosen, "chance does as much."),
        "few": say.joined(its, "; too few clicks tell what that did."),
        "early": say.joined(its, "; too early to tell: ask again from ", ready, "."),
        "dayless": say.joined(its, "; rows without days do not tell what that did."),
        "old": say.joined(its, f"; the data hold no {least_days} days before that."),
    }
    return say.chosen(sentences, state)
