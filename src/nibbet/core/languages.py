"""The language of queries that no page answers, from their letters and their words together."""

from __future__ import annotations

from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from nibbet.core.words import Lexicon, in_one, numbered

Floats = NDArray[np.float64]

#: recognised languages, by ISO 639-1 code
NAMES = dict(
    pair.split("=")
    for pair in (
        "ar=Arabic bg=Bulgarian cs=Czech da=Danish de=German el=Greek en=English es=Spanish fi=Finnish fr=French he=Hebrew hi=Hindi hr=Croatian "
        "hu=Hungarian id=Indonesian it=Italian ja=Japanese ko=Korean nl=Dutch no=Norwegian pl=Polish pt=Portuguese ro=Romanian ru=Russian "
        "sk=Slovak sl=Slovene sv=Swedish th=Thai tr=Turkish uk=Ukrainian vi=Vietnamese zh=Chinese"
    ).split()
)
#: most queries without an answer that are read; least number of certain queries for a language to count
MOST_READ, LEAST_SURE = 20_000, 3
#: share of the likelihood from which letters alone are certain, and log odds against the language of the site from which both are
SURE_SHARE, SURE_ODDS = 0.8, 3.0
#: log odds from which a query looks foreign, and is read together with others of its page
STRANGE_ODDS = 1.0
#: largest deficit of the letters of a query for the language of the other queries of its page
CLOSE_ODDS = 2.0
#: largest log odds of the letters of a query, and of one of its words
LETTERS_SAY, WORD_SAYS = 2.0, 2.5
ROUNDS = 3
#: share of the queries with a word from which the word belongs to a language too
SHARED_WORD = 0.1
#: the most wanted answered queries, which determine the language of the site
SPOKEN_BY = 400


def code_of(language: str) -> str:
    """The ISO code of a language named in English, "" for unknown ones."""
    return next((code for code, name in NAMES.items() if name.lower() == language.lower()), "")


#: share of the named impressions of a page from which another language is reported
ASKED_SHARE = 0.3


def asked_words(codes: pd.Series, before: str, after: str) -> pd.Series:
    """The name of each language between two texts, such as "asked in German, "; empty where there is none."""
    known = codes.notna()
    return (before + codes.map(NAMES).astype("str") + after).where(known, "").astype("str")


def asked_in(pairs: pd.DataFrame, queries: pd.DataFrame) -> pd.Series:
    """By page, the other language of at least ASKED_SHARE of its impressions; pages without one are left out.

    Args:
        pairs: page, query, impressions; queries: query, language (null for the language of the site and where unknown).
    """
    known = queries.dropna(subset=["language"]).set_index("query")["language"]
    if known.empty:
        return pd.Series(dtype="str")
    number, texts = numbered(pairs)
    place = pd.Index(known.index).get_indexer(texts)  # few queries have a language
    code, languages = pd.factorize(known, sort=True)
    code = np.append(code, -1)[place]
    whole = pairs.groupby("page")["impressions"].sum()
    rows = pd.DataFrame({"page": pairs["page"], "impressions": pairs["impressions"], "code": code[number]})
    sums = rows[rows["code"] >= 0].groupby(["page", "code"])["impressions"].sum().reset_index()
    most = sums.sort_values(["page", "impressions", "code"], ascending=[True, False, True]).drop_duplicates("page").set_index("page")
    most = most[most["impressions"] >= ASKED_SHARE * whole.reindex(most.index)]
    return pd.Series(np.asarray(languages, dtype=object)[most["code"]], index=most.index, dtype="str")


def languages_of(texts: pd.Series, wanted: Floats, catcher: NDArray[np.int64], site_language: str) -> pd.Series:
    """ISO code of the language of each query in another language than that of the site; null for all others, and where uncertain.

    Args:
        texts: distinct queries; wanted: demand for each (the most wanted without an answer are read); catcher: the number of the page that
            is shown for it, -1 where a page of the site answers it; site_language: ISO code from the settings; the
            language of its answered queries takes precedence.
    Returns:
        First by letters, of words that few answered queries have: letter sequences in a naive Bayes model of many languages
        (Lui & Baldwin 2012, ACL demos, 25). Queries are short, so few are certain alone; those of one page that look foreign are read
        together.
        Then by words, round by round: a word that occurs only in queries certain to be in a language is evidence for it; one
        in answered queries too, such as a name, is none; one only there is evidence against. A query is in another
        language from odds of 20 to 1.
    """
    result, answered = pd.Series(None, index=texts.index, dtype="str"), catcher < 0
    open_ = np.flatnonzero(~answered)
    if not len(open_):
        return result
    site_language = _spoken(texts[answered], wanted[answered], site_language)
    read = np.sort(open_[np.argsort(-wanted[open_], kind="stable")[:MOST_READ]])
    rest = _without_known(texts.iloc[read], texts[answered]).reset_index(drop=True)
    codes, share = _by_letters(rest, site_language)
    odds = _odds(share, codes.index(site_language))
    label, strange = _sure(share, odds), np.flatnonzero(odds.max(axis=1) >= STRANGE_ODDS)
    page, place = np.unique(catcher[read[strange]], return_inverse=True)
    words = pd.DataFrame({"page": place, "word": rest.iloc[strange].str.split().array}).explode("word").dropna().drop_duplicates()
    _, pooled = _by_letters(words.groupby("page")["word"].agg(" ".join).reindex(range(len(page)), fill_value=""), site_language)
    together = _sure(pooled, _odds(pooled, codes.index(site_language)))[place]
    fits = (together >= 0) & (odds[strange, together] >= odds[strange].max(axis=1) - CLOSE_ODDS)
    label[strange[fits]] = together[fits]
    counted = np.bincount(label[label >= 0], minlength=len(codes)) >= LEAST_SURE
    counted[codes.index(site_language)] = False
    label = np.where((label >= 0) & counted[label], label, -1)
    if not counted.any():
        return result
    label = _by_words(label, np.where(counted, np.clip(odds, -LETTERS_SAY, LETTERS_SAY), -np.inf), texts, answered, read)
    known = label >= 0
    result.iloc[read[known]] = np.array(codes)[label[known]]
    return result


def _odds(share: Floats, site_language: int) -> Floats:
    """The log odds of each language against that of the site."""
    known: Floats = np.log(np.maximum(share, 1e-9)) - np.log(np.maximum(share[:, [site_language]], 1e-9))
    return known


def _spoken(answered: pd.Series, wanted: Floats, set_language: str) -> str:
    """The language of the site: that of its most wanted answered queries read together where certain, else the one in the settings, else
    English.
    """
    first = answered.iloc[np.argsort(-wanted, kind="stable")[:SPOKEN_BY]]
    codes, share = _by_letters(pd.Series([" ".join(first)]), set_language or "en")
    best = int(share[0].argmax())
    return codes[best] if share[0, best] >= SURE_SHARE else set_language or "en"


def _sure(share: Floats, odds: Floats) -> NDArray[np.int64]:
    """The language of which letters are certain, row by row; -1 for none."""
    best = share.argmax(axis=1)
    row = np.arange(len(share))
    return np.where((share[row, best] >= SURE_SHARE) & (odds[row, best] >= SURE_ODDS), best, -1)


def _by_words(
    label: NDArray[np.int64], letters: Floats, texts: pd.Series, answered: NDArray[np.bool_], read: NDArray[np.int64]
) -> NDArray[np.int64]:
    """The labels, including those found by words."""
    words = Lexicon("english").matrix(texts).astype(np.float64)  # any stemmer will do: words are only compared
    known = np.asarray(words[answered].sum(axis=0)).ravel()
    mine, row = words[read], np.arange(len(read))
    for _ in range(ROUNDS):
        says = np.stack([np.asarray(mine[label == one].sum(axis=0)).ravel() for one in range(letters.shape[1])], axis=1)
        elsewhere = known[:, None] + says.sum(axis=1, keepdims=True) - says
        both = np.minimum(says, elsewhere) >= SHARED_WORD * (says + elsewhere)
        evidence = np.where(both & (says > 0), 0.0, np.log(says + 0.5) - np.log(elsewhere + 0.5))
        total = letters + mine @ np.clip(evidence, -WORD_SAYS, WORD_SAYS)
        best = total.argmax(axis=1)
        label = np.where(total[row, best] >= SURE_ODDS, best, label)
    return label


def _without_known(texts: pd.Series, answered: pd.Series) -> pd.Series:
    """The texts without words that answered queries have too (at least SHARED_WORD of all queries with the word): names would hide the
    language of the rest, and some foreign queries count as answered.
    """
    (words, place), (known, _) = _cut(texts), _cut(answered)
    coded = pa.concat_arrays([words, known]).dictionary_encode().indices.to_numpy()
    here, there = (
        np.bincount(coded[: len(words)], minlength=coded.max(initial=-1) + 1),
        np.bincount(coded[len(words) :], minlength=coded.max(initial=-1) + 1),
    )
    new = (there < SHARED_WORD * (here + there))[coded[: len(words)]]
    rest = pd.Series(words.filter(pa.array(new)).to_pandas().to_numpy(), dtype="str").groupby(place[new]).agg(" ".join)
    return rest.reindex(np.arange(len(texts)), fill_value="").set_axis(texts.index)


def _cut(texts: pd.Series) -> tuple[pa.Array, NDArray[np.int64]]:
    """All words of the texts, and the number of the text of each."""
    cut = pc.split_pattern(in_one(texts), " ")
    return pc.list_flatten(cut), pc.list_parent_indices(cut).to_numpy()


def _by_letters(texts: pd.Series, site_language: str) -> tuple[list[str], Floats]:
    """The codes of the languages, and texts x languages: share of the likelihood."""
    codes = sorted({*NAMES, site_language})
    model = _model(tuple(codes))
    known = [dict(model.rank(text)) for text in texts]  # the model reads one text at a time; never more than MOST_READ
    return codes, np.array([[ranked[code] for code in codes] for ranked in known], dtype=np.float64).reshape(-1, len(codes))


@cache
def _model(codes: tuple[str, ...]) -> Any:
    import py3langid
    from py3langid.langid import LanguageIdentifier

    model = LanguageIdentifier.from_modelpath(Path(py3langid.__file__).parent / "data" / "model.npz.xz", norm_probs=True)
    model.set_languages(list(codes))
    return model
