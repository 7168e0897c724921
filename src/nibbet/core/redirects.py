"""The redirect map: where addresses that go send their visitors, without chains or loops."""

from __future__ import annotations

import numpy as np
import pandas as pd

from nibbet.core.querymap import page_words
from nibbet.core.words import Lexicon, rarity

#: share of a page's telling words that another page must carry to stand in for it
COVERS = 0.6


def covering_page(pages: pd.DataFrame, leaving: np.ndarray, staying: np.ndarray, *, language: str, brand: list[str]) -> pd.Series:
    """For each leaving page the staying page that covers its subject best; null where none carries COVERS of its telling words.

    Args:
        pages: title, h1, path (and headings, description where known), one row per page.
        leaving, staying: row numbers in `pages`.
    """
    lexicon = Lexicon(language)
    subject = lexicon.matrix(pages["h1"].fillna("") + " " + pages["title"].fillna("") if "h1" in pages else pages["path"])
    known_brand = lexicon.matrix(pd.Series([" ".join(brand)])).indices
    texts = page_words(pages, lexicon)
    subject, texts = lexicon.same_width(subject, texts)
    weight = rarity(texts) ** 2
    weight[known_brand] = 0.0
    asked = subject[leaving].multiply(weight[None, :]).tocsr()
    whole = np.asarray(asked.sum(axis=1)).ravel()
    share = (
        (asked @ texts[staying].T).toarray() / np.maximum(whole, 1e-9)[:, None]
        if len(leaving) and len(staying)
        else np.zeros((len(leaving), 1))
    )
    best = share.argmax(axis=1)
    good = share[np.arange(len(leaving)), best] >= COVERS
    found = np.where(good, staying[best] if len(staying) else -1, -1)
    return pd.Series(found, index=leaving).replace(-1, np.nan)


def straighten(redirects: pd.DataFrame) -> pd.DataFrame:
    """The map with every target carried through to where it ends, and loops cut.

    Args:
        redirects: from, to (null for 410), because; one row per leaving address.
    Returns:
        from, to, status (301 or 410), because, by `from`. A target that itself leaves is followed; what runs in a circle, or ends where
        nothing stands, becomes 410.
    """
    step = redirects.drop_duplicates("from").set_index("from")["to"]
    end = step.copy()
    for _ in range(max(1, int(np.ceil(np.log2(len(step) + 1))) + 1)):  # doubling: 2, 4, 8 ... steps at once
        onward = end.map(end)
        end = onward.where(end.isin(end.index), end)
    end = end.where(~end.isin(step.index), None)
    out = pd.DataFrame({"from": step.index, "to": end.to_numpy(), "because": redirects.drop_duplicates("from")["because"].to_numpy()})
    out["status"] = np.where(out["to"].notna(), 301, 410)
    return out[["from", "to", "status", "because"]].sort_values("from", ignore_index=True)
