"""Words of queries and pages as sparse matrices: without case, accents and endings."""

from __future__ import annotations

import re
from collections.abc import Callable
from itertools import pairwise
from typing import TypeVar

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.compute as pc
import Stemmer
from numpy.typing import NDArray
from scipy import sparse

from nibbet.core.entries import places, strongest
from nibbet.errors import NibbetError
from nibbet.once import workers

#: separators of words: anything but letters with their signs and digits (emoji have signs too)
BETWEEN = r"(?:[^\p{L}\p{M}\p{N}]|[\x{fe00}-\x{fe0f}\x{20d0}-\x{20ff}])+"
#: accents, and the vowel signs that Hebrew and Arabic may leave out
ACCENTS = r"[\x{0300}-\x{036f}\x{0591}-\x{05bd}\x{05bf}\x{05c1}\x{05c2}\x{064b}-\x{0652}]"
#: letters of scripts without blanks between words: Thai, Lao, Burmese, Khmer, Hiragana, Katakana, Han, Hangul (whose words have endings attached)
SCRIPTS = "\u0e00-\u0e7f \u0e80-\u0eff \u1000-\u109f \u1780-\u17ff \u3041-\u309f \u30a0-\u30ff \u3005-\u3007\u3400-\u9fff \uac00-\ud7af".split()
UNSPACED = f"[{''.join(SCRIPTS)}]"
UNSPACED_LETTER = re.compile(UNSPACED)
PARTS = re.compile("|".join([*(f"[{script}]+" for script in SCRIPTS), f"[^{''.join(SCRIPTS)}]+"]))
#: texts processed at once
AT_ONCE = 500_000
#: the characters of most queries
LETTERS = " abcdefghijklmnopqrstuvwxyz"
Part = TypeVar("Part")


def in_one(texts: pd.Series) -> pa.Array:
    """The texts as one Arrow array, whatever their chunks."""
    given = pa.array(texts.astype("str"))
    given = given.combine_chunks() if isinstance(given, pa.ChunkedArray) else given
    return given.cast(pa.large_string())


def among(texts: pd.Series, known: pd.Series) -> NDArray[np.bool_]:
    """Which texts are among the known ones; missing ones are not."""
    result: NDArray[np.bool_] = pc.is_in(in_one(texts), value_set=in_one(known), skip_nulls=True).to_numpy(zero_copy_only=False)
    return result


def in_portions(work: Callable[[pa.Array], Part], texts: pa.Array, at_once: int = AT_ONCE) -> list[Part]:
    """The results of `work` on portions of the texts, in their order; Arrow and NumPy compute on all cores, outside the interpreter lock."""
    portions = [texts.slice(at, at_once) for at in range(0, max(len(texts), 1), at_once)]
    if len(portions) == 1:
        return [work(texts)]
    with workers() as pool:
        return list(pool.map(work, portions))


def bytes_met(texts: pa.Array, *kinds: str) -> NDArray[np.uint8]:
    """For each text, one bit for each set of ASCII letters, set if the text contains one of them, and one more bit
    for any other byte. Testing bytes is far faster than a regular expression.
    """
    marks = np.zeros(256, dtype=np.uint8)
    for number, letters in enumerate(kinds):
        marks[list(letters.encode())] |= 1 << number
    marks[marks == 0] = 1 << len(kinds)
    _, ends, data = texts.buffers()
    end = np.frombuffer(ends, dtype=np.int64, count=len(texts) + 1, offset=8 * texts.offset)
    result, filled = np.zeros(len(texts), dtype=np.uint8), np.flatnonzero(np.diff(end))
    if len(filled):
        hits = marks[np.frombuffer(data, dtype=np.uint8, count=end[-1] - end[0], offset=end[0])]
        result[filled] = np.bitwise_or.reduceat(hits, end[filled] - end[0])
    return result


def with_others(texts: pa.Array, letters: str) -> NDArray[np.bool_]:
    """Which texts contain a byte other than these ASCII letters."""
    return bytes_met(texts, letters) > 1


def plain(texts: pd.Series) -> pa.Array:
    """The texts in lower case without accents, missing ones empty."""
    return plain_array(in_one(texts))


def plain_array(texts: pa.Array) -> pa.Array:
    """As `plain`, for Arrow texts."""
    lower = pc.fill_null(pc.utf8_lower(texts), "")
    odd = pc.invert(pc.string_is_ascii(lower))
    if not pc.any(odd).as_py():
        return lower
    rest = pc.utf8_normalize(lower.filter(odd), form="NFKD")
    for letter, instead in (("ß", "ss"), ("ς", "σ")):
        rest = pc.replace_substring(rest, letter, instead)
    bare = pc.replace_substring_regex(rest, ACCENTS, "")
    return pc.replace_with_mask(lower, odd, pc.utf8_normalize(bare, form="NFC"))  # syllables of Hangul and voiced kana are letters again


def _cut(texts: pa.Array) -> tuple[pa.Array, NDArray[np.int64]]:
    """The distinct words of the texts, the number of each word, and the number of words of each text."""
    lower = plain_array(texts)
    odd = pa.array(with_others(lower, LETTERS + "0123456789"))
    has_odd = bool(pc.any(odd).as_py())
    if has_odd:  # most queries are letters, digits and blanks, and need no regular expression
        lower = pc.replace_with_mask(lower, odd, pc.replace_substring_regex(lower.filter(odd), BETWEEN, " "))
    cut = pc.split_pattern(lower, " ")
    words, counts = pc.list_flatten(cut).dictionary_encode(), np.diff(cut.offsets)
    unspaced = has_odd and pc.any(pc.match_substring_regex(words.dictionary, UNSPACED)).as_py()
    return _in_pairs(words, counts) if unspaced else (words, counts)


def _in_pairs(words: pa.DictionaryArray, counts: NDArray[np.int64]) -> tuple[pa.DictionaryArray, NDArray[np.int64]]:
    """As `_cut` returns, with words of scripts without blanks replaced by all pairs of neighbouring letters of one script, which is how such
    texts are compared without a dictionary (Luk & Kwok 2002, ACM TALIP 1:225).
    """
    cut = [pieces(word) for word in words.dictionary.to_pylist()]
    sizes = np.array([len(one) for one in cut])
    flat = pa.array([piece for one in cut for piece in one], pa.large_string()).dictionary_encode()
    at = words.indices.to_numpy()
    size, begin = sizes[at], (np.cumsum(sizes) - sizes)[at]
    ends = np.append(0, np.cumsum(size))
    place = np.arange(ends[-1]) - np.repeat(ends[:-1], size) + np.repeat(begin, size)
    new = pa.DictionaryArray.from_arrays(flat.indices.take(pa.array(place)), flat.dictionary)
    return new, np.diff(ends[np.append(0, np.cumsum(counts))])


def pieces(word: str) -> list[str]:
    """A word cut at changes of script, its parts without blanks as pairs of neighbouring letters; a lone letter stays."""
    parts = (match[0] for match in PARTS.finditer(word))
    cut = ([part] if len(part) == 1 or not UNSPACED_LETTER.match(part) else list(map("".join, pairwise(part))) for part in parts)
    return [piece for part in cut for piece in part] or [word]


class Lexicon:
    """Stemmed words numbered once, so that queries and page texts share their columns."""

    def __init__(self, language: str = "english") -> None:
        try:
            self._stemmer = Stemmer.Stemmer(language, 0)  # each word is stemmed once, so a cache would only cost time
        except KeyError:
            raise NibbetError(f"language = {language!r} is not known. Known: {', '.join(Stemmer.algorithms())}.") from None
        self._number: dict[str, int] = {}
        self._column: dict[str, int] = {}
        self._asked: tuple[pd.Index, sparse.csr_matrix] | None = None

    @property
    def words(self) -> list[str]:
        """The stems, in the order of their columns."""
        return list(self._number)

    def matrix(self, texts: pd.Series) -> sparse.csr_matrix:
        """Texts x words, 1 where the word occurs; new words get new columns, so widths may differ: see `same_width`."""
        cut, counts = zip(*in_portions(_cut, in_one(texts)), strict=True)
        words = pa.chunked_array(cut).unify_dictionaries()
        spelt = words.chunk(0).dictionary.to_pylist()
        new = [word for word in spelt if word not in self._column]
        for word, stem in zip(new, self._stemmer.stemWords(new), strict=True):
            self._column[word] = self._number.setdefault(stem, len(self._number)) if stem else -1
        columns = np.fromiter(map(self._column.__getitem__, spelt), dtype=np.int32, count=len(spelt))
        column = np.concatenate([columns[part.indices.to_numpy()] for part in words.chunks])
        ends = np.append(0, np.cumsum(np.concatenate(counts)))
        if (columns < 0).any():  # two blanks in a row leave an empty word
            filled = column >= 0
            column, ends = column[filled], np.append(0, np.cumsum(filled))[ends]
        table = sparse.csr_matrix((np.ones(len(column), dtype=np.float32), column, ends), shape=(len(texts), max(1, len(self._number))))
        table.sum_duplicates()
        table.data[:] = 1.0
        return table

    def of_queries(self, rows: pd.DataFrame) -> tuple[NDArray[np.int64], pd.Series, sparse.csr_matrix]:
        """The number of the query of each row, their texts (see `numbered`), and texts x words; the same categories are processed only
        once.
        """
        if not isinstance(rows["query"].dtype, pd.CategoricalDtype):
            number, texts = numbered(rows)
            return number, texts, self.matrix(texts)
        known, table = rows["query"].cat.categories, self._of_categories(rows)
        number, used = _in_use(rows["query"])
        if len(used) < len(known):
            return number, pd.Series(known.take(used)), sparse.csr_matrix(table[used])
        return number, pd.Series(known), table

    def of_rows(self, rows: pd.DataFrame) -> sparse.csr_matrix:
        """Rows x words of the query of each; as `of_queries`."""
        if isinstance(rows["query"].dtype, pd.CategoricalDtype):
            return sparse.csr_matrix(self._of_categories(rows)[rows["query"].cat.codes.to_numpy()])
        number, _, words = self.of_queries(rows)
        return sparse.csr_matrix(words[number])

    def _of_categories(self, rows: pd.DataFrame) -> sparse.csr_matrix:
        known = rows["query"].cat.categories
        if self._asked is None or self._asked[0] is not known:
            self._asked = (known, self.matrix(pd.Series(known)))
        return self.same_width(self._asked[1])[0]

    def same_width(self, *tables: sparse.csr_matrix) -> list[sparse.csr_matrix]:
        """The matrices widened to all words known now."""
        return [sparse.csr_matrix((t.data, t.indices, t.indptr), shape=(t.shape[0], max(1, len(self._number)))) for t in tables]


#: letters from which a word can be a misspelling, most queries of a misspelled word, and how many times as many the correct one has
MISTYPED_LETTERS, MISTYPED_QUERIES, RIGHT_TIMES = 6, 2, 10


def typos_mended(table: sparse.csr_matrix, words: list[str], known: NDArray[np.int64] | None = None) -> sparse.csr_matrix:
    """The matrix with rare words counted as the frequent word that differs by one letter omitted, added, changed or transposed.

    Args:
        table: texts x words, 1 where the word occurs; words: the texts of its columns; known: columns that are no misspellings, such as
            words of pages.
    First letters are seldom mistyped, and must agree. Of several such words the most frequent counts. By deletions on both sides: words one
    edit apart share a text after removing one letter from each (so do words with two neighbouring letters transposed).
    """
    texts = pa.array(words, pa.large_string())
    count = np.bincount(table.indices, minlength=table.shape[1])[: len(words)]
    length = pc.utf8_length(texts).to_numpy(zero_copy_only=False)
    common = np.flatnonzero((length >= MISTYPED_LETTERS) & (count >= MISTYPED_QUERIES * RIGHT_TIMES))
    longest = int(length[common].max(initial=0))
    rare = np.flatnonzero((length >= MISTYPED_LETTERS) & (length <= longest + 1) & (count > 0) & (count <= MISTYPED_QUERIES))
    rare = rare if known is None else np.setdiff1d(rare, known)
    if not len(rare):
        return table
    common = common[np.argsort(-count[common], kind="stable")]  # the most frequent first
    places = range(1, longest + 2)
    left = pa.concat_arrays([_without_letter(texts.take(pa.array(common)), at) for at in places])
    first = pd.DataFrame({"text": left.to_pandas(), "right": np.tile(np.arange(len(common)), len(places))}).groupby("text")["right"].min()
    known_texts, right = pa.array(first.index, pa.large_string()), np.append(first.to_numpy(), len(common))
    meant = np.full(len(rare), len(common))
    for at in places:
        result = pc.fill_null(pc.index_in(_without_letter(texts.take(pa.array(rare)), at), value_set=known_texts), len(first))
        meant = np.minimum(meant, right[result.to_numpy(zero_copy_only=False)])
    column = np.arange(table.shape[1])
    mistyped = meant < len(common)
    column[rare[mistyped]] = common[meant[mistyped]]
    mended = sparse.csr_matrix((table.data, column[table.indices], table.indptr), shape=table.shape)
    mended.sum_duplicates()
    mended.data[:] = 1.0
    return mended


def _without_letter(texts: pa.Array, at: int) -> pa.Array:
    """The texts without the letter at a place; unchanged if they are shorter."""
    return pc.binary_join_element_wise(
        pc.utf8_slice_codeunits(texts, 0, at), pc.utf8_slice_codeunits(texts, at + 1), pa.scalar("", pa.large_string())
    )


def as_typed(texts: pd.Series) -> pd.Series:
    """Queries as in search rows: lower case, one blank between words."""
    return texts.str.lower().str.split().str.join(" ")


def numbered(rows: pd.DataFrame) -> tuple[NDArray[np.int64], pd.Series]:
    """The number of the query of each row, from 0, and the texts: of categories in alphabetical order, of texts in order of appearance.

    Args:
        rows: query, as texts or as categories in alphabetical order, which are numbered already; only those in use are returned.
    """
    queries = rows["query"]
    if not isinstance(queries.dtype, pd.CategoricalDtype):
        number, texts = pd.factorize(queries)
        return np.asarray(number, dtype=np.int64), pd.Series(texts)
    number, used = _in_use(queries)
    known = queries.cat.categories
    return number, pd.Series(known.take(used) if len(used) < len(known) else known)


def _in_use(queries: pd.Series) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """The number of the category of each row among those in use, and which these are."""
    code = queries.cat.codes.to_numpy()
    used = np.zeros(len(queries.cat.categories), dtype=bool)
    used[code] = True
    return (code.astype(np.int64) if used.all() else (np.cumsum(used) - 1)[code]), np.flatnonzero(used)


def rarity(drawn: sparse.csr_matrix) -> NDArray[np.float64]:
    """The weight of each word: ln(1 + pages / pages with a query that contains it); words of none have the weight of words of one.

    Args:
        drawn: pages x words, nonzero where some query of the page contains the word.
    Source: inverse document frequency (Sparck Jones 1972, J. Doc. 28:11) with pages as documents, so that "best" and "how" fade by
    themselves.
    """
    pages = max(drawn.shape[0], 1)
    df = np.asarray((drawn > 0).sum(axis=0)).ravel()
    weight: NDArray[np.float64] = np.log1p(pages / np.maximum(df, 1.0))
    return weight


def covered_share(queries: sparse.csr_matrix, texts: sparse.csr_matrix, weight: NDArray[np.float64]) -> NDArray[np.float64]:
    """Row by row: the weight of the words of a query found in the text of the same row / the weight of all its words; 0 for empty queries.

    Args:
        queries, texts: equally many rows; the entries of `texts` (0 to 1) are the weights of words in the text.
    """
    weighted = queries.multiply(weight[None, :]).tocsr()
    whole = np.asarray(weighted.sum(axis=1)).ravel()
    result = np.asarray(weighted.multiply(texts).sum(axis=1)).ravel()
    share: NDArray[np.float64] = np.where(whole > 0, result / np.where(whole > 0, whole, 1.0), 0.0)
    return share


#: holders of a word from which it proposes none of them, because it is too common; pairs compared at once
MOST_HOLDERS, HELD_AT_ONCE = 500, 500_000


def carried_by(
    queries: sparse.csr_matrix, holders: sparse.csr_matrix, weight: NDArray[np.float64], least: float
) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.float64], NDArray[np.float64]]:
    """Which holders contain at least a share of the weight of the words of each query, including its rarest word.

    Args:
        queries: queries x words (0 or 1); holders: holders x words (0 to 1), of the same columns; weight: of each word.
    Returns:
        Query, holder, the share contained (0 to 1), and the same with words weighted by their entry in the holder; one row per pair.
    """
    on = np.bincount(holders.indices, minlength=holders.shape[1])
    known = sparse.csr_matrix(queries.multiply(weight[None, :]))
    whole = np.maximum(np.asarray(known.sum(axis=1)).ravel(), 1e-9)
    rarest = strongest(known)
    count = np.where(rarest >= 0, on[np.maximum(rarest, 0)], 0)
    row = np.flatnonzero((count > 0) & (count <= MOST_HOLDERS))
    by_word = holders.T.tocsr()
    last = np.cumsum(count[row])
    cuts = np.searchsorted(last, np.arange(HELD_AT_ONCE, last[-1] if len(last) else 0, HELD_AT_ONCE))
    result = []
    for part in np.split(row, np.unique(cuts)):
        place, holder = places(sparse.csr_matrix(by_word[rarest[part]]))
        query = part[place]
        there, needed = holders[holder], known[query]
        share = np.asarray(needed.multiply(there > 0).sum(axis=1)).ravel() / whole[query]
        strongly = np.asarray(needed.multiply(there).sum(axis=1)).ravel() / whole[query]
        good = share >= least
        result.append((query[good], holder[good].astype(np.int64), share[good], strongly[good]))
    return tuple(np.concatenate(one) for one in zip(*result, strict=True))  # type: ignore[return-value]
