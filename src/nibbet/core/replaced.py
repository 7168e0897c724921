"""Pages that lost queries to other pages of the same site."""

from __future__ import annotations

import numpy as np
import pandas as pd

from nibbet.core.words import numbered

#: share of what a page lost by rank that others must have gained to have taken its place; less is often chance
REPLACED = 0.5


def replaced(pairs: pd.DataFrame, rank: pd.Series, access: pd.Series) -> pd.DataFrame:
    """How far other pages of the site, new ones among them, gained what each page lost by rank, query by query.

    Args:
        pairs: page, query (empty where unknown); rank, access: the parts of the change of each pair.
    Returns:
        By page that lost: replaced, the share (0 to 1) of its losses that other pages gained for the same queries, and replaced_by, the page
        that gained most of it. Of what the pages of a query lost, at most what the others gained is replaced, of each in proportion to its loss.
    """
    named = pairs["query"].ne("").to_numpy() & np.isfinite(rank.to_numpy(float))
    number, texts = numbered(pairs.loc[named, ["query"]])
    page, moved = pairs["page"].to_numpy()[named], rank.to_numpy(float)[named]
    lost, gained = np.maximum(-moved, 0.0), np.maximum(moved + access.to_numpy(float)[named], 0.0)
    losses, gains = (np.bincount(number, part, len(texts)) for part in (lost, gained))
    share = np.minimum(losses, gains) / np.where(losses > 0, losses, 1.0)
    order = np.lexsort([-page, gained, number])
    winner = np.full(len(texts), -1)
    winner[number[order]] = page[order]  # the last of a query gained most
    losing = lost > 0
    rows = pd.DataFrame({"page": page[losing], "lost": lost[losing], "winner": winner[number[losing]]})
    rows["gone"] = rows["lost"] * share[number[losing]]
    whole = rows.groupby("page")[["lost", "gone"]].sum()
    to = rows[rows["gone"] > 0].groupby(["page", "winner"], as_index=False)[["gone"]].sum()
    first = to.sort_values(["page", "gone", "winner"], ascending=[True, False, True]).drop_duplicates("page").set_index("page")["winner"]
    return pd.DataFrame({"replaced": whole["gone"] / whole["lost"], "replaced_by": first.reindex(whole.index)})
