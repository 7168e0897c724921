"""Lists of a content system that name pages by the last part of their path alone."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

import pandas as pd

if TYPE_CHECKING:
    import ibis

    from nibbet.engine import AnyEngine

#: why a row that names a page by its slug is set aside
NO_PAGE, SEVERAL_PAGES = "slug of no page", "slug of several pages"


def with_pages_of_slugs(engine: AnyEngine, editorial: ibis.Table, tables: Mapping[str, ibis.Table | None]) -> ibis.Table:
    """An editorial list with the page of each slug: the only path in search, landings, crawl and sitemap that ends with it.

    Args:
        editorial: page, slug, aside and more; tables: by kind, the cleaned rows.
    """
    import ibis

    known = [
        engine.fetch(table.filter(table.aside.isnull() & table.page.notnull()).select("page").distinct())
        for kind in ("search", "landings", "crawl", "sitemap")
        if (table := tables[kind]) is not None
    ]
    of_slug = pages_of_slugs(pd.concat(known)["page"].astype("str"))
    pages = engine.frame(of_slug.reset_index(names="ending").astype({"ending": "str", "spelling": "str"}))
    named = editorial.mutate(
        ending=ibis.cases((editorial.page.isnull(), editorial.slug.lower().re_replace(r"^/+|/+$", "")), else_=ibis.null("string"))
    )
    joined = named.left_join(pages, "ending")
    lone, free = joined.page.isnull() & joined.ending.notnull(), joined.aside.isnull()
    aside = ibis.cases(
        (lone & free & joined.several.fill_null(False), SEVERAL_PAGES),
        (lone & free & joined.spelling.isnull(), NO_PAGE),
        else_=joined.aside,
    )
    page = ibis.cases((lone & ~joined.several.fill_null(True), joined.spelling), else_=joined.page)
    return joined.mutate(page=page, aside=aside).select(editorial.columns)


def pages_of_slugs(spellings: pd.Series) -> pd.DataFrame:
    """By last part of the path, in lower case and without an extension: spelling (the first that ends so), several (whether paths differ)."""
    path = (
        spellings.str.replace(r"^(?:https?:)?//[^/]+|[?#].*$", "", regex=True)
        .str.lower()
        .str.replace(r"/+$|\.(?:html?|php|aspx?)$", "", regex=True)
    )
    table = pd.DataFrame({"spelling": spellings, "path": path, "ending": path.str.extract(r"([^/]+)$", expand=False)}).dropna(
        subset=["ending"]
    )
    by_slug = (
        table.sort_values(["path", "spelling"])
        .groupby("ending")
        .agg(spelling=("spelling", "first"), path=("path", "first"), last=("path", "last"))
    )
    return by_slug.assign(several=by_slug["path"] != by_slug["last"])[["spelling", "several"]]
