"""Popular content: the pages with most views, longest visits and highest earnings, what they have in common, and related ideas."""

from __future__ import annotations

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from scipy import sparse, special

from nibbet.core import sentences as say
from nibbet.core.pull import false_discovery
from nibbet.core.wording import topics as wording
from nibbet.core.words import Lexicon

Floats = NDArray[np.float64]
Marks = NDArray[np.bool_]

#: measures of popularity
POPULAR_BY = tuple(wording.POPULAR)
POPULAR = "measure level key rank page value share sessions usual".split()
COMMON = "measure trait pages top_with top_of rest_with rest_of times times_low times_high q_value real".split()
LEANING = "topic label volume proposal gain page popular_by likeness words because".split()
#: pages listed for the site, and for each section and kind
OF_SITE, OF_PART = 20, 5
#: the top share of each section that counts as popular; least pages of a section, smaller ones are combined
TOP, SECTION_PAGES = 0.2, 10
#: weight of the mean of the section, in sessions, so that a page with few visits is not best by chance; least sessions of a page
PRIOR_SESSIONS, LEAST_SESSIONS = 30.0, 30
#: least pages with, without and popular for a trait; false discovery rate of real ones
LEAST_PAGES, CHANCE = 5, 0.05
#: cosine of distinctive words from which a topic is related to a popular page
RELATED = 0.2


def popularity(pages: pd.DataFrame) -> pd.DataFrame:
    """views, kept, earning of each page; null where unknown, or from too few visits.

    Args:
        pages: section, clicks, sessions, seconds (summed; null where unknown), conversions, money (null likewise), by page number.
    Returns:
        views: sessions, or clicks where there are no sessions; kept: seconds per visit, shrunk to the section by PRIOR_SESSIONS
        sessions, from LEAST_SESSIONS sessions; earning: money, or conversions where money is unknown; null where a page has none.
    """
    has_visits = pages["sessions"].notna().any()
    sessions = pages["sessions"].fillna(0.0).astype(float)
    seconds = pages["seconds"].astype(float).where(sessions > 0)
    section = pages["section"]
    usual = seconds.groupby(section).transform("sum") / sessions.where(seconds.notna()).groupby(section).transform("sum")
    kept = (seconds + PRIOR_SESSIONS * usual) / (sessions + PRIOR_SESSIONS)
    money, sales = pages["money"].fillna(0.0).astype(float), pages["conversions"].fillna(0.0).astype(float)
    earning = money if money.gt(0).any() else sales
    views = sessions if has_visits else pages["clicks"].fillna(0.0).astype(float)
    return pd.DataFrame(
        {"views": views.where(views > 0), "kept": kept.where(sessions >= LEAST_SESSIONS), "earning": earning.where(earning > 0)}
    )


def most_popular(values: pd.DataFrame, members: pd.DataFrame, sessions: pd.Series) -> pd.DataFrame:
    """The first pages of the site and of each of its parts by each measure: POPULAR, page by number.

    Args:
        values: from `popularity`; members: level, key, page: the pages of each section, kind and group; sessions: of each page.
    Returns:
        value; share: of the total of the part (null for kept, which has no sum); usual: the median of the pages of the part.
    """
    site = pd.DataFrame({"level": "site", "key": "", "page": values.index})
    rows = pd.concat([site, members[["level", "key", "page"]]], ignore_index=True)
    rows = rows.loc[rows.index.repeat(len(POPULAR_BY))].assign(measure=np.tile(POPULAR_BY, len(rows)))
    of_page = values.rename_axis("page").melt(ignore_index=False, var_name="measure").set_index("measure", append=True)["value"]
    rows = rows.join(of_page, on=["page", "measure"]).dropna(subset=["value"])
    part = ["measure", "level", "key"]
    grouped = rows.groupby(part, observed=True)["value"]
    rows = rows.assign(
        share=(rows["value"] / grouped.transform("sum")).where(rows["measure"] != "kept"),
        usual=grouped.transform("median"),
        sessions=rows["page"].map(sessions),
    )
    rows = rows.sort_values([*part, "value", "page"], ascending=[True, True, True, False, True], ignore_index=True)
    rows["rank"] = rows.groupby(part, observed=True).cumcount() + 1
    first = rows[rows["rank"] <= np.where(rows["level"] == "site", OF_SITE, OF_PART)]
    order = first.assign(
        nth=first["measure"].map(POPULAR_BY.index), size=first["level"].map({"site": 0, "section": 1, "kind": 2}).fillna(3)
    ).sort_values(["nth", "size", "level", "key", "rank"], kind="stable")
    return order.reset_index(drop=True)[POPULAR]


def is_popular(values: pd.DataFrame, section: pd.Series) -> pd.DataFrame:
    """Whether a page is in the top share of its section, by each measure (null where unknown); small sections are combined."""
    size = section.groupby(section).transform("size")
    part = section.where(size >= SECTION_PAGES, "")
    rank = values.groupby(part).rank(ascending=False, method="first")
    count = values.groupby(part).transform("count")
    return (rank <= np.ceil(TOP * count)).where(values.notna())


def common_traits(popular: pd.DataFrame, traits: pd.DataFrame, section: pd.Series) -> pd.DataFrame:
    """What popular pages have in common, compared with others of their sections: COMMON, proven traits first.

    Args:
        popular: from `is_popular`; traits: per page, one column each, true, false or null where unknown.
    Returns:
        top_with of top_of: popular pages with the trait, and those for which it is known; rest_with, rest_of: the other pages; times: ratio
            of the shares of popular pages with and without the trait, over all sections, with a 95% interval (Mantel & Haenszel 1959, J.
            Natl. Cancer Inst. 22:719; variance by Greenland & Robins 1985, Biometrics 41:55); real: beyond chance at 5% false discovery.
    """
    size = section.groupby(section).transform("size")
    stratum = pd.factorize(section.where(size >= SECTION_PAGES, ""))[0]
    rows = []
    for by in popular:
        for trait in traits:
            known = (popular[by].notna() & traits[trait].notna()).to_numpy()
            top, has = popular[by].to_numpy()[known].astype(bool), traits[trait].to_numpy()[known].astype(bool)
            counts = [int((top & has).sum()), int(top.sum()), int((~top & has).sum()), int((~top).sum())]
            is_enough = min(has.sum(), (~has).sum(), top.sum()) >= LEAST_PAGES
            ratio, error = _stratified(top, has, stratum[known]) if is_enough else (np.nan, np.nan)
            rows.append([by, trait, int(has.sum()), *counts, ratio, error])
    table = pd.DataFrame(rows, columns=[*COMMON[:7], "times", "error"])
    value = np.log(table["times"])
    table["q_value"] = table.groupby("measure")["times"].transform(
        lambda times: false_discovery(2 * special.ndtr(-np.abs(np.log(times) / table.loc[times.index, "error"])).to_numpy())
    )
    wide = special.ndtri(0.975) * table["error"]
    table = table.assign(times_low=np.exp(value - wide), times_high=np.exp(value + wide), real=(table["q_value"] < CHANCE).fillna(False))
    order = table.assign(nth=table["measure"].map(list(popular).index), size=-value.abs().fillna(-1.0))
    return order.sort_values(["nth", "real", "size", "trait"], ascending=[True, False, True, True], ignore_index=True)[COMMON]


def _stratified(top: Marks, has: Marks, stratum: NDArray[np.int64]) -> tuple[float, float]:
    """(the common ratio of the share of popular pages with a trait and without it, the standard error of its logarithm)."""
    count = int(stratum.max(initial=-1)) + 1
    a, b, m1, m0 = (np.bincount(stratum, some, count).astype(float) for some in (top & has, top & ~has, has, ~has))
    n = np.maximum(m1 + m0, 1.0)
    above, below = (a * m0 / n).sum() + 0.25, (b * m1 / n).sum() + 0.25  # a quarter, so that an empty cell is no proof
    spread = ((m1 * m0 * (a + b) - a * b * n) / n**2).sum() + 0.25
    return float(above / below), float(np.sqrt(spread / (above * below)))


def page_facts(pages: pd.DataFrame, as_of: pd.Timestamp) -> pd.DataFrame:
    """Traits of a page other than its title: true, false, or null where unknown; one column each.

    Args:
        pages: section, words, published, modified, inlinks, backlinks.
    """
    longer = pages["words"].astype(float).groupby(pages["section"]).rank(pct=True)
    linked = pages["inlinks"].astype(float).groupby(pages["section"]).rank(pct=True)
    age, rested = (as_of - pages["published"]).dt.days, (as_of - pages["modified"]).dt.days
    outside = pages["backlinks"].astype(float)
    facts = {
        "among the longest third": longer > 2 / 3,
        "among the shortest third": longer <= 1 / 3,
        "published within a year": age <= 365,
        "older than three years": age > 3 * 365,
        "changed within half a year": rested <= 182,
        "unchanged for two years": rested > 2 * 365,
        "among the most linked third": linked > 2 / 3,
        "linked from other sites": outside > 0,
    }
    known = [longer, longer, age, age, rested, rested, linked, outside.fillna(0.0) if outside.notna().any() else outside]
    return pd.DataFrame({name: holds.where(fact.notna()) for (name, holds), fact in zip(facts.items(), known, strict=True)})


def leaning_ideas(
    topics: pd.DataFrame, queries: sparse.csr_matrix, about: sparse.csr_matrix, popular: pd.DataFrame, paths: pd.Series, lexicon: Lexicon
) -> pd.DataFrame:
    """Unanswered topics related to popular pages: LEANING, page by number; by possible clicks.

    Args:
        topics: topic, label, volume, volume_kind, proposal, gain: those to be written; queries: their distinctive words, rows of length 1;
            about: the same of pages;
            popular: from `is_popular`; paths: of the pages; lexicon: of the columns of both.
    """
    liked = popular.eq(True)
    some = np.flatnonzero(liked.any(axis=1).to_numpy())
    if topics.empty or not len(some):
        return pd.DataFrame(columns=LEANING)
    near = sparse.csr_matrix(queries @ about[some].T)
    page, likeness = some[np.asarray(near.argmax(axis=1)).ravel()], near.max(axis=1).toarray().ravel()
    by = (liked.iloc[page].astype(int) @ pd.Series([f"{name}, " for name in liked], index=liked.columns)).str.removesuffix(", ").to_numpy()
    shared = _shared(topics["label"], about[page], lexicon)
    table = topics.assign(page=liked.index.to_numpy()[page], popular_by=by, likeness=likeness, words=shared.to_numpy())
    table = table[(table["likeness"] >= RELATED) & table["words"].ne("")]
    table = table.sort_values(["gain", "likeness", "topic"], ascending=[False, False, True], ignore_index=True)
    return table.assign(because=wording.leaning(table, say.named(table["page"].map(paths))))[LEANING]


def _shared(labels: pd.Series, about: sparse.csr_matrix, lexicon: Lexicon) -> pd.Series:
    """The words of each label that the related page is about."""
    word = labels.astype("str").reset_index(drop=True).str.split().explode()
    table, known = lexicon.same_width(lexicon.matrix(word), about)
    common = np.asarray(table.multiply(known[word.index.to_numpy()]).sum(axis=1)).ravel() > 0
    return word[common].groupby(level=0).agg(", ".join).reindex(range(len(labels))).fillna("")
