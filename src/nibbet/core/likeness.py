"""Whether two pages that are shown for the same queries answer one search or two: sisters of one subject are shown for each other's queries too."""

from __future__ import annotations

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from scipy import sparse

from nibbet.core.brand import brand_columns
from nibbet.core.sentences import named
from nibbet.core.tables import rows_at
from nibbet.core.words import Lexicon, carried_by, numbered, rarity

Floats = NDArray[np.float64]
#: what is looked at, by pair of pages: how far the logarithm of their share of leading days differs from query to query (natural logarithm);
#: the share of the smaller page's impressions on shared queries, as ln(1.03 - share); the share of days on which the page leads that leads a query
#: less often; the telling words of title and heading that both have, of those that either has; the share of what both are chosen for and answer
#: whose results are those of one intent; how unlike both are chosen where they are shown, as the negative logarithm; how far the page that answers less answers
#: the queries of both
EVIDENCE = ["lead_spread", "apart_share", "contested", "title_likeness", "intent", "chosen_beside", "both_answer"]
#: middle and spread of each where two pages answer one search (every query is led by either in the same measure, the smaller draws what the larger
#: draws, titles say the same in other words), and where they answer two (each leads its own queries by e to 1, a third draws on the one alone, titles
#: share their subject, the one holds the words of the subject and few of the other's question)
ONE = np.array([[-0.8, 0.35], [-2.8, 0.8], [0.34, 0.06], [0.6, 0.2], [0.85, 0.15], [-0.2, 0.25], [0.9, 0.1]])
TWO = np.array([[0.0, 0.35], [-1.3, 0.6], [0.25, 0.07], [0.25, 0.2], [0.35, 0.2], [-0.6, 0.45], [0.6, 0.15]])
#: pairs of pages that what is known beforehand weighs: of the shape of each kind (doubles are too few to tell theirs anew, sisters many), and of
#: how common they are
WEIGHTS, PAIRS = np.array([[1000.0], [40.0]]), 5.0
ROUNDS = 60
#: likeness of titles beyond which they say no more: two that are the same word for word may both name their subject alone
MOST_ALIKE = 0.7
#: share of the words of two titles that must be more than their subject: of bare titles nothing tells whether they say the same
BARE = 0.25
#: so many more pages whose titles have all words that two titles share tell that these are their subject
SUBJECT_PAGES = 3
#: queries in the words of its title alone that a page answers and the other does not, from which it may have a question of its own
OWN_QUERIES = 3
#: least spread of leads that counts: less is the grain of few days
LEAST_SPREAD = 0.15


def leads(days: pd.DataFrame, candidates: pd.DataFrame) -> pd.DataFrame:
    """Who leads the shared queries of each candidate pair, day by day.

    Args:
        days: one row per (query, date, page): position of the best-placed row, impressions.
        candidates: page_a, page_b.
    Returns:
        By candidate: turn_taking, the share of days on which another page leads than the day before, 0..1; contested, the share of days led by
        the page that leads the query less often; lead_spread, the standard deviation over queries, by days, of the logarithm of how many times
        more often the one leads. The latter two are null without a day.
    """
    sides = [pd.DataFrame({"pair": np.arange(len(candidates)), "page": candidates[f"page_{side}"].to_numpy()}) for side in "ab"]
    rows = pd.concat(sides, keys=[0, 1], names=["side"]).reset_index("side").merge(days, on="page")
    query, queries = pd.factorize(rows["query"])
    both = pd.factorize(rows["pair"].to_numpy() * len(queries) + query)[0]
    drawn = np.zeros((2, both.max(initial=-1) + 1), dtype=bool)
    drawn[rows["side"], both] = True
    shared = (drawn[0] & drawn[1])[both]
    rows, both = rows[shared], both[shared]
    date = pd.factorize(rows["date"], sort=True)[0]
    page, impressions, position = (rows[name].to_numpy() for name in ("page", "impressions", "position"))
    order = np.lexsort([page, -impressions, position, date, both])
    both, date, page = both[order], date[order], page[order]
    pair, side = rows["pair"].to_numpy()[order], rows["side"].to_numpy()[order]
    lead = np.flatnonzero((np.diff(both, prepend=-1) != 0) | (np.diff(date, prepend=-1) != 0))
    again = np.diff(both[lead], prepend=-1) == 0
    turned = again & (np.diff(page[lead], prepend=-1) != 0)
    seen, turns = (np.bincount(pair[lead][which], minlength=len(candidates)) for which in (again, turned))
    spread, contested = _over_queries(both[lead], side[lead], pair[lead], len(candidates))
    result = {"turn_taking": turns / np.maximum(seen, 1), "contested": contested, "lead_spread": spread}
    return pd.DataFrame(result, index=candidates.index)


def _over_queries(query: NDArray[np.int64], side: NDArray[np.int64], pair: NDArray[np.int64], pairs: int) -> tuple[Floats, Floats]:
    """lead_spread and contested of each pair, from one row per leading day: see `leads`."""
    days, of_other = np.bincount(query).astype(float), np.bincount(query, side)
    of = np.zeros(len(days), dtype=np.int64)
    of[query] = pair
    ratio = np.log((days - of_other + 1) / (of_other + 1))
    with np.errstate(invalid="ignore"):
        whole = np.bincount(of, days, pairs)
        middle = np.bincount(of, days * ratio, pairs) / whole
        spread = np.sqrt(np.bincount(of, days * (ratio - middle[of]) ** 2, pairs) / whole)
        contested = np.bincount(of, np.minimum(of_other, days - of_other), pairs) / whole
    return spread, contested


def chosen_beside(both: pd.DataFrame, candidates: pd.DataFrame) -> pd.Series:
    """For each candidate pair, minus the logarithm of how many times as often the one is chosen as the other, each beside what its places let
    expect, first the page that stands before in each query that they share against the one behind: two answers to one search are chosen alike
    (0), a sister is passed over.

    Args:
        both: as from `shared_queries`; candidates: page_a, page_b.
    """
    before = (both["expected_clicks_x"] >= both["expected_clicks_y"]).to_numpy()
    parts = {name: (both[f"{name}_x"].to_numpy(float), both[f"{name}_y"].to_numpy(float)) for name in ("clicks", "expected_clicks")}
    sides = {f"{name}_{side}": np.where(before == (side == "first"), *parts[name]) for name in parts for side in ("first", "second")}
    sums = pd.DataFrame(sides).groupby(both["pair"].to_numpy()).sum() + 1.0  # one click as expected draws what is little to nothing
    first, second = (sums[f"clicks_{side}"] / sums[f"expected_clicks_{side}"] for side in ("first", "second"))
    unlike: pd.Series = np.log(second / first).abs().reindex(candidates.index)
    return -unlike


def both_answer(both: pd.DataFrame, candidates: pd.DataFrame) -> pd.Series:
    """For each candidate pair, how far the page that answers less answers the queries that both share, 0..1, by the impressions of the page that
    is shown less: two answers to one search both answer it, a sister holds the words of the subject alone.

    Args:
        both: as from `shared_queries`; candidates: page_a, page_b.
    """
    weight = both[["impressions_x", "impressions_y"]].min(axis=1).to_numpy(float)
    parts = pd.DataFrame({"weight": weight, **{side: weight * both[f"answer_{side}"] for side in "xy"}})
    sums = parts.groupby(both["pair"].to_numpy()).sum()
    least: pd.Series = (sums[["x", "y"]].min(axis=1) / sums["weight"]).reindex(candidates.index)
    return least


def answers_of_each(pairs: pd.DataFrame, candidates: pd.DataFrame) -> pd.DataFrame:
    """For each candidate pair, how far either page answers what the other is chosen for above it, 0..1, by that choice, with one click that it
    answers: where searchers of the page that goes would find no answer, there are two searches.

    Args:
        pairs: page, query, brand, impressions, answer, chosen (clicks had and, less, expected); candidates: page_a, page_b.
    Returns:
        each_answers: the lesser of both; answers_a: how far page_a answers what page_b is chosen for; answers_b.
    """
    rows = _rows_of(pairs, candidates, ["answer", "chosen"])
    rows = rows.assign(chosen=rows["chosen"] * rows["answer"] ** 2)
    ends = candidates[["page_a", "page_b"]].reset_index(names="pair")
    result = pd.DataFrame(index=candidates.index)
    for name, mine, other in (("answers_b", "page_a", "page_b"), ("answers_a", "page_b", "page_a")):
        own = ends.rename(columns={mine: "page", other: "other"}).merge(rows, on="page")
        beside = rows.rename(columns={"page": "other"})[["other", "query", "answer", "chosen"]]
        both = own.merge(beside, on=["other", "query"], how="left", suffixes=("", "_other"))
        led = both["chosen"].where(both["chosen"] >= both["chosen_other"].fillna(0.0), 0.0)
        sums = pd.DataFrame({"led": led, "answered": led * both["answer_other"].fillna(0.0)}).groupby(both["pair"].to_numpy()).sum()
        result[name] = ((sums["answered"] + 1) / (sums["led"] + 1)).reindex(candidates.index).fillna(1.0)
    return result.assign(each_answers=result.min(axis=1))


def own_question(pairs: pd.DataFrame, candidates: pd.DataFrame, pages: pd.DataFrame, lexicon: Lexicon, answers: float) -> pd.Series:
    """For each candidate pair, what share of the queries that a page answers in words of its title which the other's has not, the other does not
    answer; the greater of both pages. 0 where under OWN_QUERIES queries tell it.

    Args:
        pairs: page, query, brand, impressions, answer; candidates: page_a, page_b; pages: title, h1, numbered as in them; lexicon: of the pages;
            answers: from which answer a page answers a query.
    """
    rows = _drawn(pairs, candidates, ["answer"])
    rows = rows[rows["answer"] >= answers]
    most = np.zeros(len(candidates))
    if rows.empty:
        return pd.Series(most, index=candidates.index)
    words, titles = lexicon.same_width(lexicon.of_rows(rows), lexicon.matrix(named(pages["title"]) + " " + named(pages["h1"])))
    rows = rows.assign(query=numbered(rows)[0], row=np.arange(len(rows)))
    ends = candidates[["page_a", "page_b"]].reset_index(names="pair")
    for mine, other in (("page_a", "page_b"), ("page_b", "page_a")):
        own = ends.rename(columns={mine: "page", other: "other"}).merge(rows, on="page")
        beside = rows[["page", "query"]].rename(columns={"page": "other"}).assign(both=True)
        own = own.merge(beside, on=["other", "query"], how="left")
        title, others = (sparse.csr_matrix(titles[own[name].to_numpy()] > 0, dtype=np.float64) for name in ("page", "other"))
        alone = title - title.multiply(others)
        titled = np.asarray(words[own["row"].to_numpy()].multiply(alone).sum(axis=1)).ravel() > 0
        sums = pd.DataFrame({"titled": titled, "alone": titled & own["both"].isna()}).groupby(own["pair"].to_numpy()).sum()
        share = (sums["alone"] / sums["titled"]).where(sums["alone"] >= OWN_QUERIES, 0.0)
        most = np.maximum(most, share.reindex(candidates.index).fillna(0.0).to_numpy(float))
    return pd.Series(most, index=candidates.index)


def shared_queries(pairs: pd.DataFrame, candidates: pd.DataFrame) -> pd.DataFrame:
    """One row per candidate pair and query that both its pages are shown for, without the brand: pair, query, and clicks, expected_clicks,
    impressions and answer of both (_x, _y).

    Args:
        pairs: page, query, brand and these; candidates: page_a, page_b.
    """
    rows = _rows_of(pairs, candidates, ["clicks", "expected_clicks", "impressions", "answer"])
    one, other = (
        pd.DataFrame({"pair": candidates.index, "page": candidates[f"page_{side}"].to_numpy()}).merge(rows, on="page") for side in "ab"
    )
    return one.merge(other, on=["pair", "query"])


def _rows_of(pairs: pd.DataFrame, candidates: pd.DataFrame, names: list[str]) -> pd.DataFrame:
    """What the pages of candidate pairs are shown for, without the brand: page, query (numbered), and what is named."""
    rows = _drawn(pairs, candidates, names)
    return rows.assign(query=numbered(rows)[0])


def _drawn(pairs: pd.DataFrame, candidates: pd.DataFrame, names: list[str]) -> pd.DataFrame:
    """The same with queries as they are."""
    members = np.unique(candidates[["page_a", "page_b"]].to_numpy().astype("int64"))
    return rows_at(pairs, ~pairs["brand"] & (pairs["impressions"] > 0) & pairs["page"].isin(members), ["page", "query", *names])


def title_likeness(pages: pd.DataFrame, candidates: pd.DataFrame, lexicon: Lexicon, brand: list[str]) -> pd.Series:
    """For each candidate pair, the weight of the telling words that both titles and headings have, over those that either has; null where a page
    has none of either, or both say little but their subject.

    A word tells the less, the more of the other pages that share queries with either have it: it is their subject, not the question. So are the
    words that both have where all of them stand in the titles of SUBJECT_PAGES and more other pages.

    Args:
        pages: title, h1, one row per page, numbered as in `candidates` (page_a, page_b).
    """
    if candidates.empty:
        return pd.Series(dtype="float64", index=candidates.index)
    text = named(pages["title"]).astype("str") + " " + named(pages["h1"]).astype("str")
    there = lexicon.matrix(text)
    weight = rarity(there)
    known_brand = brand_columns(lexicon, brand)
    weight[known_brand[known_brand < len(weight)]] = 0.0
    there = sparse.csr_matrix(there[:, weight > 0])
    weight = weight[weight > 0]
    one, other = candidates["page_a"].to_numpy(), candidates["page_b"].to_numpy()
    ends = (np.concatenate([one, other]), np.concatenate([other, one]))
    beside = sparse.csr_matrix((np.ones(2 * len(one)), ends), shape=(len(pages), len(pages)))
    neighbours, shared_words = np.asarray(beside.sum(axis=1)).ravel(), sparse.csr_matrix(beside @ there)

    usual = _scaled(shared_words[one] - there[other], 1 / neighbours[one]) + _scaled(
        shared_words[other] - there[one], 1 / neighbours[other]
    )

    def weighed(words: sparse.csr_matrix, at: NDArray[np.int64] | slice = slice(None)) -> tuple[Floats, Floats]:
        mine = sparse.csr_matrix(words.multiply(weight[None, :]))
        whole = np.asarray(mine.sum(axis=1)).ravel()
        return whole - np.asarray(mine.multiply(usual[at]).sum(axis=1)).ravel() / 2, whole

    (common, _), (either, whole) = weighed(there[one].multiply(there[other])), weighed(there[one].maximum(there[other]))
    filled = np.minimum(np.diff(there.indptr)[one], np.diff(there.indptr)[other]) > 0
    share = np.divide(common, either, out=np.full(len(one), np.nan), where=filled & (either > BARE * whole))
    alike = np.flatnonzero(share > TWO[EVIDENCE.index("title_likeness"), 0])
    both = sparse.csr_matrix(there[one[alike]].multiply(there[other[alike]]))
    subject = alike[_holders(both, there, weight) >= 2 + SUBJECT_PAGES]
    rest = weighed(there[one[subject]].maximum(there[other[subject]]) - there[one[subject]].multiply(there[other[subject]]), subject)[0]
    share[subject] = np.where(rest > BARE * whole[subject], 0.0, np.nan)
    return pd.Series(share, index=candidates.index)


def _holders(words: sparse.csr_matrix, there: sparse.csr_matrix, weight: Floats) -> NDArray[np.int64]:
    """In how many rows of `there` all words of each row of `words` stand."""
    row = carried_by(words, there, weight, 1 - 1e-9)[0]
    return np.bincount(row, minlength=words.shape[0])


def _scaled(table: sparse.csr_matrix, by: Floats) -> sparse.csr_matrix:
    """The rows of the table times `by`."""
    return sparse.csr_matrix(sparse.diags(by) @ table)


def one_search(candidates: pd.DataFrame) -> pd.Series:
    """How likely it is that both pages of each candidate pair answer one search, 0..1, by all that is known of it.

    Args:
        candidates: overlap, and of EVIDENCE lead_spread, contested, title_likeness, intent and chosen_beside, each null where it is not known.
    By two kinds of pairs, each of independent normal figures (naive Bayes); what is known beforehand of both (ONE, TWO) counts for WEIGHTS pairs of
    pages, the site's own pairs shape the rest and tell how common each kind is (expectation-maximisation, Dempster, Laird & Rubin 1977,
    J. R. Stat. Soc. B 39:1, with a prior): a site of many sisters needs more evidence for a double.
    """
    if candidates.empty:
        return pd.Series(dtype="float64", index=candidates.index)
    known = candidates.assign(apart_share=np.log(1.03 - candidates["overlap"].astype(float)))
    known["lead_spread"] = np.log(known["lead_spread"].astype(float).clip(lower=LEAST_SPREAD))
    known["title_likeness"] = known["title_likeness"].clip(upper=MOST_ALIKE)
    figures = known[EVIDENCE].to_numpy(float)
    there, figures = ~np.isnan(figures), np.nan_to_num(figures)
    before = np.stack([ONE, TWO])
    middle, spread, common = before[..., 0], before[..., 1] ** 2, np.array([0.5, 0.5])
    one = np.full(len(figures), 0.5)
    for _ in range(ROUNDS):
        apart = ((figures[:, None] - middle) ** 2 / spread + np.log(spread)) * there[:, None]
        likely = np.log(common) - apart.sum(axis=2) / 2
        one = 1 / (1 + np.exp(np.clip(likely[:, 1] - likely[:, 0], -500, 500)))
        share = np.stack([one, 1 - one])
        common = (share.sum(axis=1) + PAIRS) / (len(figures) + 2 * PAIRS)
        count = share @ there
        middle = (share @ (figures * there) + WEIGHTS * before[..., 0]) / (count + WEIGHTS)
        around = (figures[None] - middle[:, None]) ** 2 * there
        shaped = (np.einsum("kp,kpf->kf", share, around) + WEIGHTS * before[..., 1] ** 2) / (count + WEIGHTS)
        spread = np.maximum(shaped, before[..., 1] ** 2 / 2)
    return pd.Series(one, index=candidates.index)
