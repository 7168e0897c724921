"""Made-up queries with known intents: synonyms, typos, plurals, other word order, and look-alikes that want something else."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd
from scipy import sparse

ONSETS, VOWELS = "b c d f g h j k l m n p r s t v w br cl dr gr st tr sh ch".split(), "a e i o u ea oo".split()
#: ways to ask for one thing: words that stand for each other are separated by |, {} is the subject
FACETS = [
    ["how to {}", "{} guide", "{} explained", "ways to {}", "{} for beginners", "learn {}"],
    ["buy {}", "{} shop", "{} price", "{} for sale", "cheap {}", "order {} online"],
    ["{} repair", "fix {}", "mend broken {}", "{} repair kit", "how to fix {}"],
    ["{} near me", "{} nearby", "where to find {}", "local {}"],
    ["best {}", "top {}", "{} review", "{} compared", "which {} to choose"],
    ["{} size", "{} dimensions", "how big is a {}", "what size {} do I need"],
    ["{} history", "who invented {}", "origin of {}", "first {}"],
    ["{} course", "{} lessons", "{} training", "{} class dates"],
    ["{} rules", "is {} allowed", "{} permit", "{} law"],
    ["{} storage", "how to store {}", "keeping {} in winter", "{} rack"],
    ["{} weight", "how heavy is {}", "lightest {}"],
    ["{} hire", "rent {}", "{} rental", "hire a {} for a day"],
]
EXTRA = ["", "", "", "", "2026", "uk", "easy", "small", "free", "old", "good"]


@dataclass
class Intents:
    """queries (texts), truth (the intent of each), pages (queries x pages, impressions), results (queries x addresses, 0 or 1)."""

    queries: pd.Series
    truth: np.ndarray
    pages: sparse.csr_matrix
    results: sparse.csr_matrix


def made_up_words(rng: np.random.Generator, count: int) -> np.ndarray:
    """Distinct pronounceable words."""
    found: dict[str, None] = {}
    while len(found) < count:
        parts = [
            "".join(rng.choice(ONSETS) + rng.choice(VOWELS) for _ in range(rng.integers(2, 4))) + rng.choice(["", "n", "r", "l", "t"])
            for _ in range(1000)
        ]
        found.update(dict.fromkeys(parts))
    return np.array(list(found)[:count])


def make_intents(count: int, seed: int = 1) -> Intents:  # noqa: PLR0915 -- one world from one stream of chance
    """About `count` distinct queries."""
    rng = np.random.default_rng(seed)
    subjects = max(count // 45, 20)
    words = made_up_words(rng, int(subjects * 1.4) + 60)
    first, kinds = words[: subjects + subjects // 5], words[subjects + subjects // 5 :]
    kinds = kinds[: max(30, subjects // 40)]
    number = rng.integers(0, len(first), subjects)
    kind = kinds[(len(kinds) * rng.random(subjects) ** 2).astype(int)]
    two = rng.random(subjects) < 0.6  # "elver paddle", "elver bag": look-alikes that share a word
    name = np.where(two, np.char.add(np.char.add(first[number], " "), kind), first[rng.permutation(len(first))[:subjects]])
    other = np.where(rng.random(subjects) < 0.35, first[rng.integers(0, len(first), subjects)], "")  # a synonym of the subject's first word
    facets = rng.poisson(2.4, subjects).clip(1, len(FACETS))
    rows = []
    for subject in range(subjects):
        for facet in rng.permutation(len(FACETS))[: facets[subject]]:
            size = max(1, int(rng.pareto(1.2) * 11) + 3)
            rows.append((subject, facet, min(size, 240)))
    wanted = pd.DataFrame(rows, columns=["subject", "facet", "size"])
    # an intent is what one page can answer: one to three ways to ask of a subject
    together = np.array([1, 2, 3])[rng.choice(3, subjects, p=[0.45, 0.35, 0.2])][wanted["subject"]]
    of = pd.factorize(pd.Series(wanted["subject"] * 100 + wanted.groupby("subject").cumcount().to_numpy() // together))[0]
    row = np.repeat(np.arange(len(wanted)), wanted["size"])
    subject, facet, per = wanted["subject"].to_numpy()[row], wanted["facet"].to_numpy()[row], of[row]
    intent = wanted.groupby(of, as_index=False).first()
    template = np.array([FACETS[f][int(len(FACETS[f]) * u**1.3)] for f, u in zip(facet, rng.random(len(per)), strict=True)])
    said = name[subject]
    swapped = (other[subject] != "") & (rng.random(len(per)) < 0.3)
    said = np.array(
        [f"{o} {n.split()[-1]}" if s and " " in n else (o if s else n) for n, o, s in zip(said, other[subject], swapped, strict=True)]
    )
    plural = rng.random(len(per)) < 0.2
    said = np.where(plural, np.char.add(said, "s"), said)
    text = np.array([t.replace("{}", n) for t, n in zip(template, said, strict=True)])
    extra = rng.choice(EXTRA, len(per))
    text = np.array([f"{t} {e}".strip() for t, e in zip(text, extra, strict=True)])
    turn = rng.random(len(per)) < 0.15
    text = np.array([" ".join(t.split()[1:] + t.split()[:1]) if w else t for t, w in zip(text, turn, strict=True)])
    typo = rng.random(len(per)) < 0.06
    at = rng.random(len(per))
    text = np.array(
        [t[: int(len(t) * u)] + t[int(len(t) * u) + 1 :] if w and len(t) > 9 else t for t, w, u in zip(text, typo, at, strict=True)]
    )
    frame = pd.DataFrame({"query": text, "intent": per}).drop_duplicates("query", ignore_index=True)
    truth = frame["intent"].to_numpy()
    n = len(frame)
    # pages: most intents have one; one in seven rows strays to another page
    has = rng.random(len(intent)) < 0.75
    page_of = np.arange(len(intent))
    drawn = np.where(has, page_of, rng.integers(0, len(intent), len(intent)))[truth]
    again = np.where(rng.random(n) < 0.85, drawn, rng.integers(0, page_of.max() + 1, n))
    also = rng.random(n) < 0.25
    row = np.concatenate([np.arange(n), np.flatnonzero(also)])
    page = np.concatenate([again, rng.integers(0, page_of.max() + 1, int(also.sum()))])
    pages = sparse.csr_matrix((rng.integers(3, 200, len(row)).astype(float), (row, page)), shape=(n, page_of.max() + 1))
    # results: ten addresses of the intent, of which each query sees most; neighbours of one subject share two
    known = rng.random(n) < 0.6
    seen = rng.random((n, 10)) < 0.8
    address = truth[:, None] * 10 + np.arange(10)[None, :]
    address[:, 8:] = (len(intent) + frame["intent"].map(intent["subject"]).to_numpy())[:, None] * 10 + np.arange(2)[None, :]
    noise = rng.random((n, 10)) < 0.1
    address = np.where(noise, rng.integers(0, address.max() + 1, (n, 10)), address)
    use = seen & known[:, None]
    results = sparse.csr_matrix(
        (np.ones(int(use.sum())), (np.repeat(np.arange(n), use.sum(axis=1)), address[use])), shape=(n, int(address.max()) + 1)
    )
    results.data[:] = 1.0
    return Intents(frame["query"], truth, pages, results)


def scores(truth: np.ndarray, labels: np.ndarray) -> dict[str, float]:
    """V-measure (Rosenberg & Hirschberg 2007) and adjusted Rand index (Hubert & Arabie 1985) of two groupings, and the number of groups."""
    table = sparse.coo_matrix((np.ones(len(truth)), (truth, labels))).tocsr()
    table.sum_duplicates()
    n, a, b = len(truth), np.asarray(table.sum(axis=1)).ravel(), np.asarray(table.sum(axis=0)).ravel()

    def entropy(counts: np.ndarray) -> float:
        share = counts[counts > 0] / n
        return float(-(share * np.log(share)).sum())

    joint, ha, hb = entropy(table.data), entropy(a), entropy(b)
    mutual = ha + hb - joint
    v = 2 * mutual / (ha + hb)

    def pairs(counts: np.ndarray) -> float:
        return float((counts * (counts - 1) / 2).sum())

    chance = pairs(a) * pairs(b) / (n * (n - 1) / 2)
    return {"V": v, "ARI": (pairs(table.data) - chance) / ((pairs(a) + pairs(b)) / 2 - chance), "groups": int((b > 0).sum())}
