"""Topics: queries grouped so that one page can answer each group, the pages that serve them, and proposals where none does."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from functools import cached_property

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray
from scipy import sparse

from nibbet.core import sentences as say
from nibbet.core.brand import brand_pattern
from nibbet.core.entries import largest, strongest
from nibbet.core.junk import JUNK, NO_RULES, JunkRules, matching, suspects
from nibbet.core.kinship import NEAR, Owned, group_queries
from nibbet.core.languages import code_of, languages_of
from nibbet.core.members import queries_in_groups
from nibbet.core.pull import weighted_position
from nibbet.core.tables import near_rows, rows_at, spelt
from nibbet.core.windows import MONTH_DAYS, Window
from nibbet.core.wording import topics as wording
from nibbet.core.words import LETTERS, Lexicon, bytes_met, in_one, in_portions, numbered, plain_array

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]

TOPICS = (
    "topic label language queries volume volume_kind clicks impressions position shown_share served page answered_share proposal gain gain_low gain_high "
    "worth peak because strength"
).split()
#: share of the impressions of a topic for answered queries from which it is covered, and partly covered
COVERED, PARTLY = 0.6, 0.2
#: ratio of the highest to the mean month from which a topic has a season, and months needed
PEAK_MONTH, YEAR_MONTHS = 1.5, 12
#: words from which a query is a pasted sentence, not a search with a topic
PASTED_WORDS = 15
#: why a query beyond the most wanted ones belongs to no topic
RARER = "rarer than the queries grouped"


def set_aside(texts: pd.Series, brand: Sequence[str], rules: list[str], junk: JunkRules = NO_RULES) -> pd.Series:
    """Why a query belongs to no topic: brand, not a search (see `core.junk`), no words, more than 14 words, or a rule; null for those that
    do; as categories.

    Args:
        texts: distinct queries; brand: its spellings; junk: as in `core.junk.suspects`; rules: words, phrases or `re:` expressions that set
            queries aside.
    """
    names = brand_pattern(brand)
    reasons = ["brand", *JUNK, "no words", "over 14 words", "by [topics] aside"]

    def kind_codes(portion: pa.Array) -> NDArray[np.int64]:
        lower = plain_array(portion)
        flags = bytes_met(lower, LETTERS[1:], " ")
        letter, blank = (flags & 1 << number > 0 for number in range(2))
        small = pc.fill_null(pc.utf8_lower(portion), "")  # with its accents, like the brand
        brands = pc.match_substring_regex(small, names).to_numpy(zero_copy_only=False) if names else np.zeros(len(flags), dtype=bool)
        conditions = [
            brands,
            matching(lower, ~letter, r"^\P{L}*$"),
            blank & (pc.count_substring(lower, " ").to_numpy(zero_copy_only=False) >= PASTED_WORDS - 1),
        ]
        return np.select(conditions, [0, len(JUNK) + 1, len(JUNK) + 2], -1)

    result = np.concatenate(in_portions(kind_codes, in_one(texts)))
    odd = suspects(texts, junk)
    result = np.where((odd >= 0) & (result != 0), odd + 1, result)
    if rules:
        ruled = texts.isin(queries_in_groups(texts, {"aside": rules})["query"]).to_numpy()
        result = np.where(ruled & (result < 0), len(reasons) - 1, result)
    return pd.Series(pd.Categorical.from_codes(result, dtype=pd.CategoricalDtype(reasons)), index=texts.index)


@dataclass(frozen=True)
class Grouping:
    """Queries and their topics.

    queries: query, impressions, demand (searches a month; null where unknown), and as categories aside (why it belongs to no topic,
    else null), language (ISO code where it is asked in another than the site's, else null), topic; one row per query.
    The queries of pairs come first, in their order (see `numbered`). pages, results: grouped queries x pages (impressions; unanswered queries in
    separate columns) and x addresses of their results (None without snapshots).
    """

    queries: pd.DataFrame
    pages: sparse.csr_matrix
    results: sparse.csr_matrix | None

    @cached_property
    def grouped(self) -> pd.DataFrame:
        """See `grouped_queries`."""
        return grouped_queries(self.queries)


def grouped_queries(queries: pd.DataFrame) -> pd.DataFrame:
    """The queries that have a topic, in the order of the matrices: query, impressions, demand, language, topic.

    Args:
        queries: as in `Grouping`.
    """
    rows = rows_at(queries, queries["topic"].notna(), ["query", "impressions", "demand", "language", "topic"])
    return rows.assign(language=spelt(rows["language"]), topic=spelt(rows["topic"])).reset_index(drop=True)


def topics_of(pairs: pd.DataFrame, queries: pd.DataFrame) -> pd.Series:
    """The topic of each pair, as categories; null where its query is set aside.

    Args:
        pairs: query, as they were grouped; queries: as in `Grouping`.
    """
    number, _ = numbered(pairs)
    topic = pd.Categorical(queries["topic"])  # read from a file, a column without values has no categories
    return pd.Series(topic[number], index=pairs.index)


def listed(queries: pd.Series, results: pd.DataFrame) -> sparse.csr_matrix:
    """Queries x addresses of their results, 0 or 1.

    Args:
        results: query, url.
    """
    place, url = pd.Index(queries).get_indexer(results["query"]), pd.factorize(results["url"])[0]
    known = place >= 0
    table = sparse.csr_matrix((np.ones(int(known.sum())), (place[known], url[known])), shape=(len(queries), int(url.max(initial=0)) + 1))
    table.data[:] = 1.0
    return table


def group_pairs(
    pairs: pd.DataFrame,
    pages: int,
    demand: pd.DataFrame | None,
    results: pd.DataFrame | None,
    *,
    brand: Sequence[str],
    aside: list[str],
    junk: JunkRules = NO_RULES,
    most: int,
    language: str,
    lexicon: Lexicon | None = None,
    translate: bool = True,
    lone: pd.DataFrame | None = None,
    on_page: sparse.csr_matrix | None = None,
) -> Grouping:
    """The queries of the map, and those known only from a demand source, in topics.

    Args:
        pairs: page (number), query, role, impressions, clicks, expected_clicks; pages: number of pages of the site.
        demand: query, demand; results: query, url of first results; None without such a source.
        aside, junk: rules as in `set_aside`; most: how many of the most wanted queries are grouped.
        lexicon: of that language, possibly with the words of the queries already.
        translate: whether queries in other languages make topics too; else they are set aside.
        lone: query, impressions: totals of queries whose pages are unknown; they are grouped by words and results.
        on_page: pages x words (0 to 1) of that lexicon: if given, the queries of one page are one topic.
    """
    lexicon = lexicon or Lexicon(language)
    number, texts, words = lexicon.of_queries(pairs)
    shown = pairs["impressions"].to_numpy(float)
    grouped = pd.DataFrame({"query": texts.array, "impressions": np.bincount(number, shown, len(texts))}).reset_index(names="number")
    if demand is not None:
        grouped = grouped.merge(demand, on="query", how="outer", validate="1:1").sort_values(["number", "query"], ignore_index=True)
    else:
        grouped["demand"] = np.nan
    grouped = _with_lone(grouped, lone)
    grouped = grouped.fillna({"impressions": 0.0}).astype({"query": "str"})
    if len(grouped) > len(texts):  # queries known only from demand come after the others
        more = lexicon.matrix(grouped["query"].iloc[len(texts) :])
        words = sparse.csr_matrix(sparse.vstack(lexicon.same_width(words, more)))
    aside_of = set_aside(grouped["query"], brand, aside, junk).cat
    reason, reasons = aside_of.codes.to_numpy().astype(np.int16), [*aside_of.categories, RARER]
    wanted = np.fmax(grouped["impressions"].to_numpy(float), grouped["demand"].to_numpy(float))
    able = np.flatnonzero(reason < 0)
    kept = able[largest(wanted[able], most)]
    reason[np.setdiff1d(able, kept, assume_unique=True)] = len(reasons) - 1
    place = pd.Series(np.arange(len(kept)), index=grouped["number"].iloc[kept])
    place = place[place.index.notna()].reindex(np.arange(len(texts)), fill_value=-1)  # queries without a pair are known only from demand
    row = place.to_numpy()[number]
    use, astray = row >= 0, pairs["role"].eq("stray").to_numpy()
    column = pairs["page"].to_numpy() + np.where(astray, pages, 0)
    drawn = sparse.csr_matrix((shown[use] + 0.5, (row[use], column[use])), shape=(len(kept), 2 * pages))
    answered = np.ones(len(kept), dtype=bool)
    answered[row[use & astray]] = False
    queries = grouped["query"].iloc[kept].reset_index(drop=True)
    catcher = np.full(len(kept), -1)
    if not answered.all():
        catcher[~answered] = strongest(drawn[~answered][:, pages:])
    known = languages_of(queries, wanted[kept], catcher, code_of(language))
    grouped["language"] = _among_all(known, kept, len(grouped))
    if not translate and (left := known.notna().to_numpy()).any():
        spoken, languages = pd.factorize(known[left], sort=True)
        reason[kept[left]] = len(reasons) + spoken
        reasons += [f"in another language: {code}" for code in languages]
        kept, drawn, answered, known = kept[~left], drawn[~left], answered[~left], known[~left]
        queries = queries[~left].reset_index(drop=True)
        row = np.append(np.where(left, -1, np.cumsum(~left) - 1), -1)[row]
    in_results = None if results is None else listed(queries, results)
    tongue = np.where(answered, 0, pd.factorize(known, sort=True)[0] + 1)
    tongue = np.where(answered | known.notna().to_numpy(), tongue, -1)
    owned = None if on_page is None else _owned(pairs, row, (len(kept), pages), on_page)
    group = group_queries(
        queries,
        language=language,
        pages=drawn,
        results=in_results,
        answered=answered,
        tongue=tongue,
        cut=(lexicon, words[kept]),
        owned=owned,
    )
    label = labels_of(queries, group, wanted[kept])
    grouped["aside"], grouped["topic"] = (
        pd.Categorical.from_codes(reason, dtype=pd.CategoricalDtype(reasons)),
        _among_all(label, kept, len(grouped)),
    )
    return Grouping(grouped.drop(columns="number"), drawn, in_results)


def _owned(pairs: pd.DataFrame, row: Ints, shape: tuple[int, int], on_page: sparse.csr_matrix) -> Owned:
    """The owner of each grouped query, and the clicks of pages as far as they answer it. row: the grouped query of each pair, -1 for none;
    shape: queries x pages.
    """
    use, page = row >= 0, pairs["page"].to_numpy()
    chosen = (pairs["clicks"] + pairs["expected_clicks"] + 1e-6).to_numpy(float) * pairs["answer"].to_numpy(float) ** 2
    owns = use & pairs["role"].eq("owner").to_numpy()
    owner = np.full(shape[0], -1)
    owner[row[owns]] = page[owns]
    return Owned(owner, sparse.csr_matrix((chosen[use], (row[use], page[use])), shape=shape), on_page)


def _with_lone(queries: pd.DataFrame, lone: pd.DataFrame | None) -> pd.DataFrame:
    """Queries with the impressions of totals that name no page; queries known only from these come last, in alphabetical order."""
    if lone is None or lone.empty:
        return queries
    lone_impressions = lone.set_index("query")["impressions"].astype(float)
    more = lone_impressions.index.difference(pd.Index(queries["query"]), sort=True)
    table = queries.set_index("query").reindex([*queries["query"], *more]).reset_index()
    return table.assign(impressions=table["impressions"].fillna(0.0) + table["query"].map(lone_impressions).fillna(0.0))


def _among_all(texts: pd.Series, at: Ints, count: int) -> pd.Categorical:
    """Texts, null for none, at their places among `count` rows, as categories in alphabetical order; the other rows have none."""
    code, known = pd.factorize(texts, sort=True)
    codes = np.full(count, -1)
    codes[at] = code
    return pd.Categorical.from_codes(codes, known)


def labels_of(texts: pd.Series, group: Ints, weight: Floats) -> pd.Series:
    """The label of the group of each query: its most wanted query, of equals the shorter, then alphabetical order; it is also the identity of
    the topic.
    """
    order = np.lexsort([texts.to_numpy(dtype=object), texts.str.len().to_numpy(), -weight, group])
    first = order[np.unique(group[order], return_index=True)[1]]
    head = np.zeros(int(group.max(initial=-1)) + 1, dtype=np.int64)
    head[group[first]] = first
    return texts.iloc[head[group]].set_axis(texts.index)


#: `served` of a topic whose pages no row names
UNKNOWN = "unknown"


def topic_table(
    pairs: pd.DataFrame,
    strays: pd.DataFrame,
    wanted: pd.DataFrame,
    paths: pd.Series,
    window: Window,
    *,
    languages: pd.Series,
    strength: pd.Series,
    worth: pd.Series,
    peaks: pd.Series,
    least: float,
    pages_known: bool = True,
    dead: pd.Series | None = None,
    over: pd.Series | None = None,
) -> pd.DataFrame:
    """One row per topic: TOPICS by gain, weighted by the strength of the subject.

    Args:
        pairs: the query map with topic (null where set aside): page, query, topic, role, answer, clicks, impressions, position_sum, placed,
            impressions_reference.
        strays: topic, gain, gain_low, gain_high: one row per query that no page answers.
        wanted: query, topic, demand: searches a month where known, also of queries for which the site does not appear; language.
        paths: the path of each page, for the sentences.
        languages: ISO code of the language of each page, where a crawl has it: a page is not translated into its own language.
        strength: of each page, clicks per search of its section relative to the rest of the site (1: as usual).
        worth: of each page, the value of a visit from search in its section; the value for the whole site, for topics without a page, is
            under -1.
        peaks: by topic, the next peak of its season; topics without one are left out.
        least: gain a month below which nothing is proposed.
        pages_known: whether any row names the page of a query; otherwise it is unknown which topics are answered.
        dead: of each page, whether it fails or is blocked from the index: a topic that only such pages answer is uncovered, and the page is
            to be restored.
        over: of each page, whether its time was over when it went: it is not to be restored, nor is its topic to be written again.
    """
    needed = ["page", "query", "topic", "role", "answer", "clicks", "impressions", "position_sum", "placed"]
    rows = rows_at(pairs, pairs["topic"].notna() & (pairs["impressions"] > 0), needed)
    sums = rows.groupby("topic").agg(
        clicks=("clicks", "sum"),
        impressions=("impressions", "sum"),
        position_sum=("position_sum", "sum"),
        placed=("placed", "sum"),
    )
    totals = wanted.groupby("topic").agg(queries=("query", "size"), demand=("demand", "sum"), volumes=("demand", "count"))
    table = sums.reindex(totals.index).fillna(0.0).join(totals)
    table["position"] = weighted_position(table["position_sum"], table["placed"])
    known = table["volumes"] * 2 >= table["queries"]
    table["volume"] = table["demand"].where(known, table["impressions"]).round().astype("int64")
    table["volume_kind"] = np.where(known, "searches a month", "impressions")
    table["shown_share"] = (
        (table["impressions"] / (table["demand"] * window.days / MONTH_DAYS)).where(known & (table["demand"] > 0)).clip(upper=1.0)
    )
    owned = rows[rows["role"] == "owner"]
    fails = owned["page"].map(dead).eq(True) if dead is not None else pd.Series(False, index=owned.index)
    lost, owned = owned[fails], owned[~fails]
    counted = rows[near_rows(weighted_position(rows["position_sum"], rows["placed"]).to_numpy(float), pd.factorize(rows["topic"])[0])]
    answered = counted[counted["query"].isin(owned["query"])].groupby("topic")["impressions"].sum()
    share = answered / counted.groupby("topic")["impressions"].sum()
    table["answered_share"] = share.reindex(table.index).fillna(0.0).clip(upper=1.0)
    table["served"] = np.select([table["answered_share"] >= COVERED, table["answered_share"] >= PARTLY], ["covered", "partly"], "uncovered")
    unknown = pd.Series(not pages_known, index=table.index)
    table["served"] = table["served"].where(~unknown, UNKNOWN)
    best = _leading(owned, "impressions")
    catcher = _leading(rows, "impressions")
    table["page"] = best.reindex(table.index).where(table["served"] != "uncovered", catcher.reindex(table.index))
    near = (rows["answer"] * rows["impressions"]).groupby([rows["topic"], rows["page"]]).sum() / rows.groupby(["topic", "page"])[
        "impressions"
    ].sum()
    close = near.reindex(pd.MultiIndex.from_arrays([table.index, table["page"]])).to_numpy()
    gains = strays.groupby("topic")[["gain", "gain_low", "gain_high"]].sum().reindex(table.index)
    open_ = table["served"] != "covered"
    table = table.join(gains.where(open_, np.nan))
    extend = (table["served"] == "partly") | (close >= NEAR)
    table["language"] = topic_languages(wanted).reindex(table.index).where(open_)
    table["page"], restore = _restored(table, lost, *_lost_before(pairs, table, dead))
    ended = restore & table["page"].map(over).eq(True) if over is not None else pd.Series(False, index=table.index)
    restore &= ~ended
    abroad = table["language"].notna() & table["page"].notna() & (table["page"].map(languages) != table["language"])
    table["proposal"] = np.select(
        [restore, ended | ~open_ | ~(table["gain"] >= least) | unknown, abroad, extend & table["page"].notna()],
        ["restore", "none", "translate", "extend"],
        "new page",
    )
    table["because"] = wording.served(table, say.named(table["page"].map(paths)), _state(table, ended), str(window))
    table = table.rename_axis("topic").reset_index().assign(label=lambda t: t["topic"])
    table["strength"] = table["page"].map(strength)
    table["worth"] = table["gain"] * table["page"].fillna(-1).map(worth)
    table["peak"] = peaks.reindex(table["topic"]).to_numpy()
    leaning = (table["gain"] * table["strength"].fillna(1.0)).fillna(-1).to_numpy(float)
    order = np.lexsort([table["topic"].to_numpy(dtype=object), -table["volume"].to_numpy(float), -leaning])
    return table.iloc[order].reset_index(drop=True)[TOPICS]


def topic_peaks(searches: pd.DataFrame, wanted: pd.DataFrame, as_of: date) -> pd.Series:
    """By topic, the first day of the next month with most searches; flat topics are left out, and all where there is no full year.

    Args:
        searches: query, month, volume; wanted: query, topic. A topic has a season from PEAK_MONTH times its mean month.
    """
    rows = searches.dropna(subset=["month", "volume"]).merge(wanted[["query", "topic"]], on="query")
    month = pd.to_datetime(rows["month"])
    if month.dt.month.nunique() < YEAR_MONTHS:
        return pd.Series(dtype="datetime64[ns]", index=pd.Index([], dtype="str"))
    sums = rows.groupby(["topic", month.dt.to_period("M")])["volume"].sum().rename_axis(["topic", "when"]).reset_index()
    means = sums.groupby(["topic", sums["when"].dt.month.rename("month")])["volume"].mean()
    high = (means / means.groupby(level="topic").sum() * YEAR_MONTHS).dropna()  # topics that nobody searches have none
    best = high.groupby(level="topic").idxmax().map(lambda key: key[1])
    best = best[high.groupby(level="topic").max() >= PEAK_MONTH]
    return pd.to_datetime(pd.DataFrame({"year": as_of.year + (best <= as_of.month), "month": best, "day": 1}))


def topic_languages(wanted: pd.DataFrame) -> pd.Series:
    """By topic, the other language of at least a third of its queries; other topics are left out.

    Args:
        wanted: topic, language (null for the language of the site and where unknown).
    """
    known = wanted.dropna(subset=["language"]).groupby(["topic", "language"]).size().rename("votes").reset_index()
    first = known.sort_values(["topic", "votes", "language"], ascending=[True, False, True]).drop_duplicates("topic").set_index("topic")
    return first.loc[first["votes"] * 3 >= wanted.groupby("topic").size().reindex(first.index), "language"]


def _lost_before(pairs: pd.DataFrame, table: pd.DataFrame, dead: pd.Series | None) -> tuple[pd.DataFrame, pd.Series]:
    """Of topics for which the site no longer appears: topic, page and impressions in the reference window of pages that are dead now; and by
    topic those of all pages then.
    """
    names = ["topic", "page", "impressions_reference"]
    rows = rows_at(pairs, pairs["topic"].notna() & (pairs["impressions_reference"] > 0), names).astype({"topic": "str"})
    rows = rows.rename(columns={"impressions_reference": "impressions"})[rows["topic"].map(table["impressions"]).eq(0)]
    fails = rows["page"].map(dead).eq(True) if dead is not None else pd.Series(False, index=rows.index)
    return rows[fails], rows.groupby("topic")["impressions"].sum()


def _restored(table: pd.DataFrame, lost: pd.DataFrame, lost_before: pd.DataFrame, shown_before: pd.Series) -> tuple[pd.Series, pd.Series]:
    """The page of each topic, and which topics wait for a page to be restored, because only a dead page answers most of their impressions, or
    did so when the site still appeared for them.

    Args:
        lost: topic, page, impressions of queries that dead pages own; lost_before, shown_before: from `_lost_before`.
    """
    lost = pd.concat([lost[["topic", "page", "impressions"]], lost_before], ignore_index=True).astype({"topic": "str"})
    of_dead = lost.groupby("topic")["impressions"].sum().reindex(table.index).fillna(0.0)
    shown = table["impressions"] + shown_before.reindex(table.index).fillna(0.0)
    restore = (table["served"] == "uncovered") & (of_dead >= COVERED * shown) & (of_dead > 0)
    return _leading(lost, "impressions").reindex(table.index).where(restore, table["page"]), restore


def _leading(rows: pd.DataFrame, by: str) -> pd.Series:
    """Per topic the page with most of it."""
    sums = rows.groupby(["topic", "page"])[by].sum().reset_index().sort_values(["topic", by, "page"], ascending=[True, False, True])
    return sums.drop_duplicates("topic").set_index("topic")["page"]


def _state(table: pd.DataFrame, ended: pd.Series) -> pd.Series:
    """The state of each topic, as `wording.topics.served` names it."""
    unknown, shown = table["served"] == UNKNOWN, table["impressions"] > 0
    conditions = [unknown & shown, unknown, ended, table["proposal"] == "restore", ~shown, table["served"] == "uncovered"]
    return pd.Series(np.select(conditions, ["unnamed", "unknown", "ended", "restore", "unseen", "caught"], "answered"), index=table.index)
