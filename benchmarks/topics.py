"""How near groups of queries come to known intents, beside two plain ways (equal words; TF-IDF and k-means), and how long they take.

Usage: python benchmarks/topics.py [COUNT]
"""

from __future__ import annotations

import resource
import sys
import time

import numpy as np
import pandas as pd
from intents import make_intents, scores
from sklearn.cluster import MiniBatchKMeans
from sklearn.feature_extraction.text import TfidfVectorizer

from nibbet.core.kinship import group_queries
from nibbet.core.words import Lexicon

#: queries from which k-means takes hours
MOST_FOR_MEANS = 200_000


def main() -> None:
    """Print V-measure, adjusted Rand index, groups and seconds of every way."""
    given = make_intents(int(sys.argv[1]) if len(sys.argv) > 1 else 100_000)
    print(f"{len(given.queries):,} queries of {len(np.unique(given.truth)):,} intents", flush=True)

    def told(name: str, labels: np.ndarray, seconds: float) -> None:
        found = scores(given.truth, labels)
        peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 2**20
        print(
            f"{name}: V {found['V']:.3f}, ARI {found['ARI']:.3f}, {found['groups']:,} groups, {seconds:.1f} s, {peak:.2f} GiB", flush=True
        )

    began = time.perf_counter()
    words = Lexicon().matrix(given.queries)
    words.sort_indices()
    bags = pd.factorize(pd.Series(np.split(words.indices, words.indptr[1:-1])).map(lambda row: row.tobytes()))[0]
    told("equal words", bags, time.perf_counter() - began)
    if len(given.queries) < MOST_FOR_MEANS:
        began = time.perf_counter()
        count = len(np.unique(given.truth))  # told the true number of intents, which nobody knows
        vectors = TfidfVectorizer(min_df=2, dtype=np.float32).fit_transform(given.queries)
        nearest = MiniBatchKMeans(count, random_state=0, batch_size=8192, n_init=1, max_iter=10, reassignment_ratio=0)
        told("TF-IDF and k-means", nearest.fit_predict(vectors), time.perf_counter() - began)
    for name, pages, results in (
        ("words", None, None),
        ("words and pages", given.pages, None),
        ("words, pages and results", given.pages, given.results),
    ):
        began = time.perf_counter()
        told(name, group_queries(given.queries, language="english", pages=pages, results=results), time.perf_counter() - began)


if __name__ == "__main__":
    main()
