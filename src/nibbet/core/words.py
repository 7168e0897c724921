"""Words of queries and pages as sparse matrices: without case, accents and endings."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.compute as pc
import Stemmer
from numpy.typing import NDArray
from scipy import sparse

from nibbet.errors import NibbetError

#: what stands between words: anything but letters and digits
BETWEEN = r"[^\p{L}\p{N}]+"
#: what most queries are made of
LETTERS = " abcdefghijklmnopqrstuvwxyz"


def in_one(texts: pd.Series) -> pa.Array:
    """The texts as one array of Arrow, however many pieces or none they are kept in."""
    given = pa.array(texts.astype("str"))
    given = given.combine_chunks() if isinstance(given, pa.ChunkedArray) else given
    return given.cast(pa.large_string())


def among(texts: pd.Series, known: pd.Series) -> NDArray[np.bool_]:
    """Which texts are among those known; missing ones are not."""
    found: NDArray[np.bool_] = pc.is_in(in_one(texts), value_set=in_one(known), skip_nulls=True).to_numpy(zero_copy_only=False)
    return found


def with_others(texts: pa.Array, letters: str) -> NDArray[np.bool_]:
    """Which texts have a byte other than those of these ASCII letters; a look at bytes costs far less than a pattern."""
    wanted = np.ones(256, dtype=bool)
    wanted[list(letters.encode())] = False
    _, ends, data = texts.buffers()
    end = np.frombuffer(ends, dtype=np.int64, count=len(texts) + 1, offset=8 * texts.offset)
    other = wanted[np.frombuffer(data, dtype=np.uint8, count=end[-1] - end[0], offset=end[0])] if data else np.zeros(0, dtype=bool)
    found, filled = np.zeros(len(texts), dtype=bool), np.flatnonzero(np.diff(end))
    if len(filled):
        found[filled] = np.logical_or.reduceat(other, end[filled] - end[0])
    return found


def plain(texts: pd.Series) -> pa.Array:
    """The texts in small letters without accents, missing ones empty."""
    lower = pc.fill_null(pc.utf8_lower(in_one(texts)), "")
    odd = pc.invert(pc.string_is_ascii(lower))
    if not pc.any(odd).as_py():
        return lower
    rest = pc.utf8_normalize(lower.filter(odd), form="NFKD")
    for letter, instead in (("ß", "ss"), ("ς", "σ")):
        rest = pc.replace_substring(rest, letter, instead)
    return pc.replace_with_mask(lower, odd, pc.replace_substring_regex(rest, r"[\x{0300}-\x{036f}]", ""))


class Lexicon:
    """Stemmed words numbered once, so that queries and page texts share their columns."""

    def __init__(self, language: str = "english") -> None:
        try:
            self._stemmer = Stemmer.Stemmer(language)
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
        lower = plain(texts)
        odd = with_others(lower, LETTERS + "0123456789")
        if odd.any():  # most queries are letters, digits and blanks, and need no pattern
            odd = pa.array(odd)
            lower = pc.replace_with_mask(lower, odd, pc.replace_substring_regex(lower.filter(odd), BETWEEN, " "))
        cut = pc.split_pattern(lower, " ")
        words = pc.list_flatten(cut).dictionary_encode()
        spelt = words.dictionary.to_pylist()
        new = [word for word in spelt if word not in self._column]
        for word, stem in zip(new, self._stemmer.stemWords(new), strict=True):
            self._column[word] = self._number.setdefault(stem, len(self._number)) if stem else -1
        columns = np.fromiter(map(self._column.__getitem__, spelt), dtype=np.int32, count=len(spelt))
        column, ends = columns[words.indices.to_numpy()], np.array(cut.offsets)
        if (columns < 0).any():  # what two blanks in a row leave is no word
            filled = column >= 0
            column, ends = column[filled], np.append(0, np.cumsum(filled))[ends]
        table = sparse.csr_matrix((np.ones(len(column), dtype=np.float32), column, ends), shape=(len(texts), max(1, len(self._number))))
        table.sum_duplicates()
        table.data[:] = 1.0
        return table

    def of_queries(self, rows: pd.DataFrame) -> tuple[NDArray[np.int64], pd.Series, sparse.csr_matrix]:
        """The number of each row's query, their texts (see `numbered`), and texts x words; the same categories are cut only once."""
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


#: letters from which a word can be told as another mistyped, queries up to which it is rare, and how many times more the right one has
MISTYPED_LETTERS, MISTYPED_QUERIES, RIGHT_TIMES = 6, 2, 10


def typos_mended(table: sparse.csr_matrix, words: list[str], known: NDArray[np.int64] | None = None) -> sparse.csr_matrix:
    """The matrix with rare words counted as the frequent word that they differ from by one letter left out, put in, changed or swapped.

    Args:
        table: texts x words, 1 where the word occurs; words: the texts of its columns; known: columns that are no typos, as words of pages.
    First letters are seldom mistyped, and must agree. Of several such words the most frequent counts. By deletions on both sides: words one
    edit apart share the text that is left when one letter is taken from each (two neighbours swapped also do).
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
        found = pc.fill_null(pc.index_in(_without_letter(texts.take(pa.array(rare)), at), value_set=known_texts), len(first))
        meant = np.minimum(meant, right[found.to_numpy(zero_copy_only=False)])
    column = np.arange(table.shape[1])
    mistyped = meant < len(common)
    column[rare[mistyped]] = common[meant[mistyped]]
    mended = sparse.csr_matrix((table.data, column[table.indices], table.indptr), shape=table.shape)
    mended.sum_duplicates()
    mended.data[:] = 1.0
    return mended


def _without_letter(texts: pa.Array, at: int) -> pa.Array:
    """The texts without the letter at a place; whole where they are no longer than that."""
    return pc.binary_join_element_wise(
        pc.utf8_slice_codeunits(texts, 0, at), pc.utf8_slice_codeunits(texts, at + 1), pa.scalar("", pa.large_string())
    )


def as_typed(texts: pd.Series) -> pd.Series:
    """Queries as search rows spell them: small letters, one blank between words."""
    return texts.str.lower().str.split().str.join(" ")


def numbered(rows: pd.DataFrame) -> tuple[NDArray[np.int64], pd.Series]:
    """The number of each row's query, from 0, and their texts: of categories by alphabet, of texts in the order in which they first stand.

    Args:
        rows: query, as texts or as categories in the order of the alphabet: they are numbered already, and only those in use are told.
    """
    queries = rows["query"]
    if not isinstance(queries.dtype, pd.CategoricalDtype):
        number, texts = pd.factorize(queries)
        return np.asarray(number, dtype=np.int64), pd.Series(texts)
    number, used = _in_use(queries)
    known = queries.cat.categories
    return number, pd.Series(known.take(used) if len(used) < len(known) else known)


def _in_use(queries: pd.Series) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """The number of each row's category among those in use, and which these are."""
    code = queries.cat.codes.to_numpy()
    used = np.zeros(len(queries.cat.categories), dtype=bool)
    used[code] = True
    return (code.astype(np.int64) if used.all() else (np.cumsum(used) - 1)[code]), np.flatnonzero(used)


def rarity(drawn: sparse.csr_matrix) -> NDArray[np.float64]:
    """How telling each word is: ln(1 + pages / pages that draw a query with it); words of none get the weight of words of one.

    Args:
        drawn: pages x words, nonzero where some query of the page holds the word.
    Source: inverse document frequency (Sparck Jones 1972, J. Doc. 28:11) with pages as documents, so that "best" and "how" fade by themselves.
    """
    pages = max(drawn.shape[0], 1)
    df = np.asarray((drawn > 0).sum(axis=0)).ravel()
    weight: NDArray[np.float64] = np.log1p(pages / np.maximum(df, 1.0))
    return weight


def covered_share(queries: sparse.csr_matrix, texts: sparse.csr_matrix, weight: NDArray[np.float64]) -> NDArray[np.float64]:
    """Row by row: the weight of a query's words found in the text beside it, over the weight of all its words; 0 for empty queries.

    Args:
        queries, texts: equally many rows; the entries of `texts` (0..1) say how strongly a word stands in the text.
    """
    weighted = queries.multiply(weight[None, :]).tocsr()
    whole = np.asarray(weighted.sum(axis=1)).ravel()
    found = np.asarray(weighted.multiply(texts).sum(axis=1)).ravel()
    share: NDArray[np.float64] = np.where(whole > 0, found / np.where(whole > 0, whole, 1.0), 0.0)
    return share
