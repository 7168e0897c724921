"""Effects of titles and descriptions on CTR, and what to change first on each page."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from scipy import special

from nibbet.core import sentences as say
from nibbet.core.brand import names_brand, without_brand
from nibbet.core.clusters import Fit, clustered_poisson
from nibbet.core.pull import false_discovery
from nibbet.core.sections import language_code, region_of
from nibbet.core.tables import THIN_CLICKS
from nibbet.core.words import Lexicon, covered_share, numbered, rarity

Floats = NDArray[np.float64]

#: widths in which results show a title and a description, in letter heights: about 600 pixels at 20, and two lines of 460 at 14
TITLE_WIDTH, DESCRIPTION_WIDTH = 30.0, 66.0
#: a title below this share of the width, without the brand, leaves most of it unused: about twenty letters
SHORT = 0.35
#: letters within which a title should name its subject: half of what is shown
EARLY = 30
#: share of the weight of the words of a query that a title must contain to match it
NAMED = 0.5
#: pages of a section with the same form, apart from their own words, from which the form is a pattern
PATTERN_PAGES = 5
#: each trait: what it is, and its remedy; none where it is a choice of form, not a fault
TRAITS: dict[str, tuple[str, str]] = {
    "title missing": ("it has no title", "give it a title that names its subject"),
    "title doubled": ("another page has the same title", "make the two titles different"),
    "words absent": ("the words of its queries are not in the title", "put the words that are searched into the title"),
    "words late": ("the words of its queries come late in the title", "begin the title with the words that are searched"),
    "title cut off": ("the title is wider than results show", "shorten the title so that all of it is shown"),
    "title short": ("the title leaves most of its width unused", "say in the title what the page offers"),
    "past year": ("the title names a past year", "update the year, and the page"),
    "description missing": ("it has no description", "give it a description that answers the query"),
    "description doubled": ("another page has the same description", "write its own description"),
    "description cut off": ("the description is wider than results show", "put what matters into the first 150 letters"),
    "pattern": ("its title follows the pattern of its section", ""),
    "brand first": ("the title begins with the brand", "put the brand last"),
    "brand absent": ("the title does not name the brand", ""),
    "number": ("the title contains a number", ""),
    "year": ("the title names this year or the next", ""),
    "question": ("the title is a question", ""),
}
EFFECTS = "trait pages pages_without clicks effect effect_low effect_high q_value real mend best_page worst_page".split()
TITLES = "page title clicks expected_clicks pull position traits change_first mend effect proven gain gain_low gain_high because".split()
#: pages with and without a trait needed for its effect
LEAST_PAGES = 5
#: false discovery rate of traits called real
CHANCE = 0.05
#: least pages and most sections for a section to have its own level
SECTION_PAGES, MOST_SECTIONS = 8, 15


def shown_width(texts: pd.Series) -> pd.Series:
    """The width of each text in a plain sans-serif face, in letter heights; 0 where there is none.

    Widths by class of letters, which agree between such faces to within a few per cent: narrow .28, wide .85, capitals .67, ideographs 1,
    others .53.
    """
    text = texts.fillna("").astype("str")
    narrow, wide = text.str.count(r"[iljftrI.,:;'’|!()\[\] -]"), text.str.count(r"[mwMW@%—&]")
    square, capital = text.str.count(r"[⺀-鿿가-힯＀-｠]"), text.str.count(r"[A-HJ-LN-VX-ZÀ-Þ]")
    other = text.str.len() - narrow - wide - square - capital
    return 0.28 * narrow + 0.85 * wide + 1.0 * square + 0.67 * capital + 0.53 * other


def page_traits(pages: pd.DataFrame, brand: Sequence[str], year: int) -> pd.DataFrame:
    """The traits of TRAITS that the title and description of each page have, except those that depend on queries; one column each.

    Args:
        pages: title, description (null where none), section, path, language where known; year: the last year of the data.
    """
    tongue = region_of(pages["path"]) + say.named(language_code(pages["language"]))  # each language has its own titles
    title, description = (pages[name].astype("str").str.strip() for name in ("title", "description"))
    title, description = (text.where(text.notna() & text.ne("")) for text in (title, description))
    there = title.notna()
    width, described = shown_width(title), shown_width(description)
    named = pd.Series(names_brand(title.fillna(""), brand), index=pages.index) if brand else pd.Series(False, index=pages.index)
    rest = title.where(~named, pd.Series(without_brand(title.fillna(""), brand), index=pages.index)) if brand else title
    bare, behind = (text.fillna("").str.lower().str.replace(r"\W+", "", regex=True) for text in (title, rest))
    whole, part = (text.where(behind.str.len() >= 4, text.str.slice(0, 1)).str.slice(0, 4) for text in (bare, behind))
    first = named & whole.ne(part)
    years = title.str.extractall(r"(?<!\d)((?:19|20)\d\d)(?!\d)")[0].astype(int).groupby(level=0).max().reindex(pages.index)
    without_years = rest.str.replace(r"(?<!\d)(?:19|20)\d\d(?!\d)", "", regex=True)
    table = {
        "title missing": ~there,
        "title doubled": there & (title + tongue).duplicated(keep=False),
        "title cut off": width > TITLE_WIDTH,
        "title short": there & (shown_width(rest) < SHORT * TITLE_WIDTH),
        "past year": years < year,
        "description missing": description.isna(),
        "description doubled": description.notna() & (description + tongue).duplicated(keep=False),
        "description cut off": described > DESCRIPTION_WIDTH,
        "pattern": _patterned(rest, pages["section"]),
        "brand first": first,
        "brand absent": there & ~named,
        "number": without_years.str.contains(r"\d", regex=True),
        "year": years >= year,
        "question": title.str.contains("?", regex=False),
    }
    return pd.DataFrame({name: values.fillna(False).astype(bool) for name, values in table.items()}, index=pages.index)


def _patterned(titles: pd.Series, section: pd.Series) -> pd.Series:
    """Whether a title, without the words that are rare in its section, equals that of several siblings and is not empty."""
    words = titles.fillna("").str.lower().str.findall(r"\w+").explode().dropna().rename("word").to_frame()
    words["section"] = section.reindex(words.index)
    words = words.reset_index(names="page")
    shared = words.groupby(["section", "word"])["page"].transform("nunique") >= PATTERN_PAGES
    form = words["word"].where(shared, "*").groupby(words["page"]).agg(" ".join).str.replace(r"\*(?: \*)+", "*", regex=True)
    form = form.reindex(titles.index)
    count = form.groupby([section, form]).transform("size")
    return (count >= PATTERN_PAGES) & (form.str.count(r"\w+") >= 2) & form.str.contains("*", regex=False)


def query_traits(rows: pd.DataFrame, pages: pd.DataFrame, lexicon: Lexicon) -> pd.DataFrame:
    """words absent, words late: whether the title of the page lacks most of the words of the query, or has them only after its first EARLY
    letters.

    Args:
        rows: page (number), query; pages: title, indexed by number.
    """
    number, texts = numbered(rows)
    title = pages["title"].astype("str").fillna("")
    query_words, whole, early = lexicon.same_width(*(lexicon.matrix(part) for part in (texts, title, title.str.slice(0, EARLY))))
    place = pages.index.get_indexer(pd.Index(rows["page"]))
    weight = rarity(whole)
    there = covered_share(query_words[number], whole[place], weight)
    soon = covered_share(query_words[number], early[place], weight)
    known = (title.to_numpy() != "")[place]
    absent, late = known & (there < NAMED), known & (there >= NAMED) & (soon < there / 2)
    return pd.DataFrame({"words absent": absent, "words late": late}, index=rows.index)


def trait_effects(rows: pd.DataFrame, traits: pd.DataFrame, section: pd.Series) -> pd.DataFrame:
    """The CTR of pages and queries with a trait relative to others at the same position: EFFECTS without the example pages, by trait.

    Args:
        rows: page, clicks, expected_clicks (above 0), position, one per page and query without the brand; traits: per row, one column each;
            section: of each row.
    Returns:
        Indexed by trait. All traits, the section and the position are estimated together: a Poisson
        regression with random variation of pages and pairs (see `core.clusters`), so that a large page counts as one page. Real: beyond
        chance at 5% false discovery.
    """
    enough = rows["expected_clicks"].groupby(rows["page"]).transform("sum") >= THIN_CLICKS
    with_trait = traits[enough].groupby(rows.loc[enough, "page"]).any()
    without = ~traits[enough].groupby(rows.loc[enough, "page"]).all()
    pages, others = with_trait.sum(), without.sum()
    tested = [name for name in map(str, traits) if pages[name] >= LEAST_PAGES and others[name] >= LEAST_PAGES]
    place = np.log(rows["position"].clip(lower=1).fillna(10.0).to_numpy(float))
    size = section.groupby(section).transform("size")
    of_pages = rows["page"].groupby(section).transform("nunique")
    of_section = section.where(of_pages >= SECTION_PAGES)
    largest = size.groupby(of_section).first().nlargest(MOST_SECTIONS).index
    levels = pd.get_dummies(of_section.where(of_section.isin(largest)), dtype=float).iloc[:, 1:].to_numpy(float)
    fixed = np.column_stack([np.ones(len(rows)), place - place.mean(), levels])
    fit: Fit = clustered_poisson(
        rows["clicks"].to_numpy(float),
        rows["expected_clicks"].to_numpy(float),
        np.column_stack([fixed, traits[tested].to_numpy(float)]),
        pd.factorize(rows["page"])[0],
    )
    value, error = fit.coefficients[fixed.shape[1] :], fit.errors[fixed.shape[1] :]
    q = false_discovery(2 * special.ndtr(-np.abs(value / error)))
    wide = special.ndtri(0.975) * error
    table = pd.DataFrame(
        {
            "trait": list(traits),
            "pages": pages.to_numpy(),
            "pages_without": others.to_numpy(),
            "clicks": [float(rows.loc[traits[name], "clicks"].sum()) for name in map(str, traits)],
        }
    ).set_index("trait")
    for name, values in (
        ("effect", np.exp(value)),
        ("effect_low", np.exp(value - wide)),
        ("effect_high", np.exp(value + wide)),
        ("q_value", q),
    ):
        table[name] = pd.Series(values, index=tested)
    table["real"] = (table["q_value"] < CHANCE).fillna(False)
    table["mend"] = table.index.map({name: mend for name, (_, mend) in TRAITS.items()})
    return table


def title_advice(pages: pd.DataFrame, rows: pd.DataFrame, traits: pd.DataFrame, effects: pd.DataFrame, monthly: float) -> pd.DataFrame:
    """What to change first in the title and description of each page: TITLES, by proven gain, then by missing clicks.

    Args:
        pages: page, title, indexed by number; rows: page (number), clicks, expected_clicks, position; traits: per row; monthly: the factor
            from clicks of the window to a month.
    A trait of queries counts for a page where it affects half of its expected clicks. Of several, the one that costs most on this
    site comes first; where none is proven here, the first in the order of TRAITS. The gain is the additional clicks without it, with
    an 80% interval.
    """
    weight = rows["expected_clicks"].to_numpy(float)
    page = rows["page"]
    whole = pd.Series(weight).groupby(page.to_numpy()).sum()
    share = traits.mul(weight, axis=0).groupby(page.to_numpy()).sum().div(whole, axis=0)
    has = share >= 0.5
    names = np.array([str(name) for name in traits], dtype=object)
    known = effects.reindex(names)
    costs = known["real"].eq(True) & (known["effect"] < 1)
    mends = np.array([bool(TRAITS[name][1]) for name in names])
    usable = (mends & ~(known["effect_low"] > 1).to_numpy()) | costs.to_numpy()
    candidates = has.to_numpy() & usable
    order = np.where(costs, known["effect"].fillna(1.0), 1.0 + np.arange(1, len(known) + 1) / 100)
    ranked = np.where(candidates, order, np.inf)
    best = ranked.argmin(axis=1)
    some = np.isfinite(ranked.min(axis=1))
    sums = (
        rows.assign(seen=rows["impressions"] * rows["position"]).groupby("page")[["clicks", "expected_clicks", "impressions", "seen"]].sum()
    )
    result = pd.DataFrame({"page": pages["page"].reindex(sums.index), "title": pages["title"].reindex(sums.index)}).assign(
        clicks=sums["clicks"],
        expected_clicks=sums["expected_clicks"],
        pull=(sums["clicks"] / sums["expected_clicks"]).where(sums["expected_clicks"] >= THIN_CLICKS),
        position=sums["seen"] / sums["impressions"],
        traits=["; ".join(names[row]) for row in candidates],
        change_first=np.where(some, names[best], ""),
    )
    of = known.iloc[best].reset_index()
    proven = some & of["real"].eq(True).to_numpy() & (of["effect"] < 1).to_numpy()
    result["mend"] = np.where(some, of["mend"].where(of["mend"].ne(""), "try it without"), "")
    result["effect"] = np.where(some, of["effect"], np.nan)
    result["proven"] = proven
    touched = result["clicks"].to_numpy() * share.to_numpy()[np.arange(len(best)), best] * monthly
    value, wide = np.log(of["effect"].to_numpy(float)), (np.log(of["effect_high"]) - np.log(of["effect_low"])).to_numpy(float) / 2
    wide = wide * special.ndtri(0.9) / special.ndtri(0.975)
    for name, edge in (("gain", value), ("gain_low", value + wide), ("gain_high", value - wide)):
        result[name] = np.where(proven, touched * (np.exp(-np.minimum(edge, 0.0)) - 1), np.nan)
    result["because"] = _because(result, of)
    result = result[some].assign(missing=(result["expected_clicks"] - result["clicks"]).clip(lower=0)[some]).reset_index(drop=True)
    ordered: pd.DataFrame = result.sort_values(["gain", "missing", "page"], ascending=[False, False, True], ignore_index=True)[TITLES]
    return ordered


def _because(result: pd.DataFrame, of: pd.DataFrame) -> pd.Series:
    """The sentence of each page: the trait of its title or description, and its effect on this site."""
    fact = result["change_first"].map({name: f"{text[0].upper()}{text[1:]}" for name, (text, _) in TRAITS.items()}).fillna("")
    pages, times = of["pages"].map("{:,.0f}".format).to_numpy(dtype=object), of["effect"].map("{:.2f}".format).to_numpy(dtype=object)
    span = (of["effect_low"].map("{:.2f}".format) + " and " + of["effect_high"].map("{:.2f}".format)).to_numpy(dtype=object)
    shown = (
        ". CTR of the "
        + pages
        + " such pages of this site is "
        + times
        + " times that of others at the same position (95% between "
        + span
        + ")."
    )
    unknown = ". There are too few such pages on this site to measure the effect."
    open_ = ". An effect is not proven on this site: CTR of such pages is " + times + " times that of others (95% between " + span + ")."
    return pd.Series(fact + np.where(result["proven"], shown, np.where(of["effect"].isna(), unknown, open_)), index=result.index)
