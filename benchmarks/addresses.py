"""How long a million spellings take to fold, as seconds and as a ratio to parsing each with the bare URL library."""

from __future__ import annotations

import time

import ada_url
import numpy as np
import pandas as pd

from nibbet.core.join.address import Home, fold


def spellings(count: int) -> pd.DataFrame:
    """A mix as exports hold it: two hosts, slash or none, tracking, capitals, encoded letters, other hosts."""
    rng, number = np.random.default_rng(1), np.arange(count)
    host = np.array(
        ["https://www.tarnbrook.example", "https://tarnbrook.example", "", "http://tarnbrook.example", "https://other.example"]
    )[rng.choice(5, count, p=[0.4, 0.3, 0.2, 0.09, 0.01])]
    path = pd.Series(
        np.array(["/rivers/", "/Kit/", "/caf%c3%a9/", "/courses/über-"])[rng.choice(4, count, p=[0.8, 0.1, 0.06, 0.04])]
    ) + pd.Series(number // 3).astype("str")
    tail = np.array(["/", "", "/?utm_source=letter", "/?b=2&a=1", "#part", "/index.html"])[
        rng.choice(6, count, p=[0.5, 0.3, 0.1, 0.04, 0.03, 0.03])
    ]
    return pd.DataFrame({"spelling": host + path + tail, "source": np.array(["search", "landings", "crawl"])[number % 3]})


if __name__ == "__main__":
    table = spellings(1_000_000)
    begun = time.perf_counter()
    for text in table["spelling"].iloc[:100_000]:
        ada_url.URL(text, base="https://tarnbrook.example/").pathname  # noqa: B018
    bare = (time.perf_counter() - begun) * 10
    begun = time.perf_counter()
    found = fold(table, Home("https://tarnbrook.example/"))
    ours = time.perf_counter() - begun
    print(
        f"1,000,000 spellings -> {found['page'].nunique():,} pages in {ours:.1f} s; the bare parser takes {bare:.1f} s: ratio {ours / bare:.2f}"
    )
