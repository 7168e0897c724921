"""Whether two pages shown for the same queries serve one search or two: sister pages on one subject are shown for each other's queries too."""

from __future__ import annotations

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from scipy import sparse

from nibbet.core.brand import brand_columns
from nibbet.core.sentences import named
from nibbet.core.tables import SECOND_PAGE, rows_at
from nibbet.core.words import Lexicon, carried_by, numbered, rarity

Floats = NDArray[np.float64]
#: figures per pair of pages: spread of the log share of leading days over queries; share of the impressions of the smaller page on shared
#: queries, as ln(1.03 - share); share of days on which the page leads that leads a query less often; distinctive words of title and heading
#: that both have, of those that either has; share of the clicks of both whose results have the same intents; difference in CTR where both
#: are shown, as the negative logarithm; how far the page that answers less answers the queries of both
EVIDENCE = ["lead_spread", "apart_share", "contested", "title_likeness", "intent", "chosen_beside", "both_answer"]
#: mean and spread of each figure for pages that serve one search (either leads every query in the same proportion, the smaller page has the
#: queries of the larger, titles say the same in other words), and for pages that serve two (each leads its own queries by e to 1, a third
#: of impressions belong to one page alone, titles share the subject, one page has the words of the subject and few of the question of the
#: other)
ONE = np.array([[-0.8, 0.35], [-2.8, 0.8], [0.34, 0.06], [0.6, 0.2], [0.85, 0.15], [-0.2, 0.25], [0.9, 0.1]])
TWO = np.array([[0.0, 0.35], [-1.3, 0.6], [0.25, 0.07], [0.25, 0.2], [0.35, 0.2], [-0.6, 0.45], [0.6, 0.15]])
#: weights of the prior in pairs: of the shape of each kind (duplicates are too few to re-estimate it, sisters many), and of how common they
#: are
WEIGHTS, PAIRS = np.array([[1000.0], [40.0]]), 5.0
ROUNDS = 60
#: similarity of titles beyond which they carry no more information: identical titles may both name only their subject
MOST_ALIKE = 0.7
#: share of the words of two titles that must go beyond their subject to be compared
BARE = 0.25
#: other pages with all words that two titles share from which these words are their subject
SUBJECT_PAGES = 3
#: queries in the words of its title alone that a page answers and the other does not, from which it may have its own question
OWN_QUERIES = 3
#: least spread of leads: smaller values are an effect of few days
LEAST_SPREAD = 0.15


def leads(days: pd.DataFrame, candidates: pd.DataFrame) -> pd.DataFrame:
    """Which page leads the shared queries of each candidate pair, day by day.

    Args:
        days: one row per (query, date, page): position of the best-placed row, impressions.
        candidates: page_a, page_b.
    Returns:
        By candidate: turn_taking, 0 to 1, the share of days on which another page leads than the day before, or, if that is more, which no
            single change of the lead explains, as where pages lead for weeks in turn; contested, the share of days
            led by the page that leads the query less often; lead_spread, the standard deviation over queries, weighted by days, of the log
            ratio of leading days. The latter two are null without a day.
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
    result = {
        "turn_taking": np.fmax(turns / np.maximum(seen, 1), _beyond_one_change(both[lead], side[lead], pair[lead], len(candidates))),
        "contested": contested,
        "lead_spread": spread,
    }
    return pd.DataFrame(result, index=candidates.index)


def _beyond_one_change(query: NDArray[np.int64], side: NDArray[np.int64], pair: NDArray[np.int64], pairs: int) -> Floats:
    """For each pair, the share of the leading days of its queries, in order of days, that are led otherwise than by one page before the best
    single day of change, and by the other after it.
    """
    first = np.flatnonzero(np.diff(query, prepend=-1))
    if not len(first):
        return np.full(pairs, np.nan)
    days = np.diff(first, append=len(query))
    step = np.where(side == 0, 1, -1)
    lead = np.cumsum(step)
    lead -= np.repeat(lead[first] - step[first], days)  # days led by the one page more than by the other, so far in this query
    total = lead[first + days - 1]
    most, least = np.maximum(np.maximum.reduceat(lead, first), 0), np.minimum(np.minimum.reduceat(lead, first), 0)
    odd = np.minimum((days + total) / 2 - most, (days - total) / 2 + least)
    with np.errstate(invalid="ignore"):
        share: Floats = np.bincount(pair[first], odd, pairs) / np.bincount(pair[first], days, pairs)
    return share


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
    """For each candidate pair, minus the log ratio of the pulls of its pages, the page with the better position in each shared query against
    the other: two answers to one search have the same pull (0), while a sister is passed over.

    Args:
        both: from `shared_queries`; candidates: page_a, page_b.
    """
    before = (both["expected_clicks_x"] >= both["expected_clicks_y"]).to_numpy()
    parts = {name: (both[f"{name}_x"].to_numpy(float), both[f"{name}_y"].to_numpy(float)) for name in ("clicks", "expected_clicks")}
    sides = {f"{name}_{side}": np.where(before == (side == "first"), *parts[name]) for name in parts for side in ("first", "second")}
    sums = pd.DataFrame(sides).groupby(both["pair"].to_numpy()).sum() + 1.0  # one click at the expected rate shrinks small counts to 0
    first, second = (sums[f"clicks_{side}"] / sums[f"expected_clicks_{side}"] for side in ("first", "second"))
    unlike: pd.Series = np.log(second / first).abs().reindex(candidates.index)
    return -unlike


def both_answer(both: pd.DataFrame, candidates: pd.DataFrame) -> pd.Series:
    """For each candidate pair, how far the page that answers less answers the shared queries, 0 to 1, weighted by the impressions of the page
    that is shown less: two answers to one search both answer it, while a sister has only the words of the subject.

    Args:
        both: from `shared_queries`; candidates: page_a, page_b.
    """
    weight = both[["impressions_x", "impressions_y"]].min(axis=1).to_numpy(float)
    parts = pd.DataFrame({"weight": weight, **{side: weight * both[f"answer_{side}"] for side in "xy"}})
    sums = parts.groupby(both["pair"].to_numpy()).sum()
    least: pd.Series = (sums[["x", "y"]].min(axis=1) / sums["weight"]).reindex(candidates.index)
    return least


def answers_of_each(pairs: pd.DataFrame, candidates: pd.DataFrame) -> pd.DataFrame:
    """For each candidate pair, how far either page answers what the other gets clicks for at the better position, 0 to 1, weighted by those
    clicks, plus one click that it answers. If searchers of the page that goes would find no answer, there are two searches.

    Args:
        pairs: page, query, brand, impressions, answer, chosen (actual clicks and, with less weight, expected ones); candidates: page_a,
            page_b.
    Returns:
        each_answers: the smaller of both; answers_a: how far page_a answers what page_b gets clicks for; answers_b.
    """
    rows = _rows_of(pairs, candidates, ["answer", "chosen"])
    rows = rows.assign(chosen=rows["chosen"] * rows["answer"] ** 2)
    ends = candidates[["page_a", "page_b"]].reset_index(names="pair")
    result = pd.DataFrame(index=candidates.index)
    for name, mine, other in (("answers_b", "page_a", "page_b"), ("answers_a", "page_b", "page_a")):
        of_ends = ends.rename(columns={mine: "page", other: "other"}).merge(rows, on="page")
        partner = rows.rename(columns={"page": "other"})[["other", "query", "answer", "chosen"]]
        both = of_ends.merge(partner, on=["other", "query"], how="left", suffixes=("", "_other"))
        led = both["chosen"].where(both["chosen"] >= both["chosen_other"].fillna(0.0), 0.0)
        sums = pd.DataFrame({"led": led, "answered": led * both["answer_other"].fillna(0.0)}).groupby(both["pair"].to_numpy()).sum()
        result[name] = ((sums["answered"] + 1) / (sums["led"] + 1)).reindex(candidates.index).fillna(1.0)
    return result.assign(each_answers=result.min(axis=1))


def own_question(pairs: pd.DataFrame, candidates: pd.DataFrame, pages: pd.DataFrame, lexicon: Lexicon, answers: float) -> pd.Series:
    """For each candidate pair, of the impressions for queries that a page answers in words of its title that the other title lacks, the share for
    those that the other does not answer; the larger of both pages. 0 for fewer than OWN_QUERIES queries. Queries for which it is found only beyond SECOND_PAGE
    do not count: of two pages on one question, chance decides which is listed far down.

    Args:
        pairs: page, query, brand, impressions, position, answer; candidates: page_a, page_b; pages: title, h1, numbered as in them; lexicon:
            of the pages; answers: threshold of answer from which a page answers a query.
    """
    rows = _drawn(pairs, candidates, ["answer", "position", "impressions"])
    rows = rows[rows["answer"] >= answers]
    most = np.zeros(len(candidates))
    if rows.empty:
        return pd.Series(most, index=candidates.index)
    words, titles = lexicon.same_width(lexicon.of_rows(rows), lexicon.matrix(named(pages["title"]) + " " + named(pages["h1"])))
    rows = rows.assign(query=numbered(rows)[0], row=np.arange(len(rows)))
    near = rows[~(rows["position"] > SECOND_PAGE)].drop(columns="position")
    ends = candidates[["page_a", "page_b"]].reset_index(names="pair")
    for mine, other in (("page_a", "page_b"), ("page_b", "page_a")):
        of_ends = ends.rename(columns={mine: "page", other: "other"}).merge(near, on="page")
        partner = rows[["page", "query"]].rename(columns={"page": "other"}).assign(both=True)
        of_ends = of_ends.merge(partner, on=["other", "query"], how="left")
        title, others = (sparse.csr_matrix(titles[of_ends[name].to_numpy()] > 0, dtype=np.float64) for name in ("page", "other"))
        alone = title - title.multiply(others)
        titled = np.asarray(words[of_ends["row"].to_numpy()].multiply(alone).sum(axis=1)).ravel() > 0
        alone_there, shown = titled & of_ends["both"].isna().to_numpy(), of_ends["impressions"].to_numpy(float)
        counts = {"titled": titled * shown, "alone": alone_there * shown, "queries": alone_there}
        sums = pd.DataFrame(counts).groupby(of_ends["pair"].to_numpy()).sum()
        share = (sums["alone"] / sums["titled"]).where(sums["queries"] >= OWN_QUERIES, 0.0)
        most = np.maximum(most, share.reindex(candidates.index).fillna(0.0).to_numpy(float))
    return pd.Series(most, index=candidates.index)


def shared_queries(pairs: pd.DataFrame, candidates: pd.DataFrame) -> pd.DataFrame:
    """One row per candidate pair and query for which both its pages are shown, without the brand: pair, query, and clicks, expected_clicks,
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
    """The queries of the pages of candidate pairs, without the brand: page, query (numbered), and the named columns."""
    rows = _drawn(pairs, candidates, names)
    return rows.assign(query=numbered(rows)[0])


def _drawn(pairs: pd.DataFrame, candidates: pd.DataFrame, names: list[str]) -> pd.DataFrame:
    """The same with queries as they are."""
    members = np.unique(candidates[["page_a", "page_b"]].to_numpy().astype("int64"))
    return rows_at(pairs, ~pairs["brand"] & (pairs["impressions"] > 0) & pairs["page"].isin(members), ["page", "query", *names])


def title_likeness(pages: pd.DataFrame, candidates: pd.DataFrame, lexicon: Lexicon, brand: list[str]) -> pd.Series:
    """For each candidate pair, the weight of the distinctive words that both titles and headings have / the weight of those that either has;
    null where a page has neither, or both say little beyond their subject.

    A word has less weight if more of the other pages that share queries with either have it, because it then names the subject, not the
    question. So do the common words of both if the titles of SUBJECT_PAGES or more other pages contain all of them.

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
    adjacent = sparse.csr_matrix((np.ones(2 * len(one)), ends), shape=(len(pages), len(pages)))
    neighbours, shared_words = np.asarray(adjacent.sum(axis=1)).ravel(), sparse.csr_matrix(adjacent @ there)

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
    """Number of rows of `there` that contain all words of each row of `words`."""
    row = carried_by(words, there, weight, 1 - 1e-9)[0]
    return np.bincount(row, minlength=words.shape[0])


def _scaled(table: sparse.csr_matrix, by: Floats) -> sparse.csr_matrix:
    """The rows of the table times `by`."""
    return sparse.csr_matrix(sparse.diags(by) @ table)


def one_search(candidates: pd.DataFrame) -> pd.Series:
    """Probability that both pages of each candidate pair serve one search, 0 to 1, from all evidence.

    Args:
        candidates: overlap, and of EVIDENCE lead_spread, contested, title_likeness, intent and chosen_beside, each null where unknown.
    Two kinds of pairs, each with independent normal figures (naive Bayes). The priors of both (ONE, TWO) have the weight of WEIGHTS pairs
    of pages; the pairs of the site determine the rest, including how common each kind is (expectation-maximisation, Dempster, Laird & Rubin
    1977, J. R. Stat. Soc. B 39:1, with a prior). A site with many sisters therefore requires more evidence for a duplicate.
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
