"""Made-up sites unlike the demo's: subjects x questions, addresses without end slash, sister pages shown for each other's queries.

Nothing here is taken from how Nibbet judges: searchers, results and pages are simulated, exports are written as other hands would write them,
and the truth of each page, query and address stands beside the workspace. Two kinds: `guides` (English, a page tree, most pages dated) and
`shop` (German, flat addresses, no dates at all).
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass
from hashlib import blake2b
from pathlib import Path

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from scipy.signal import lfilter

DAYS = 487
LAST = pd.Timestamp("2026-10-31")
Rows = list[dict[str, object]]
Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Kind:
    """The words of a site, and how its searchers choose."""

    host: str
    brand: str
    subjects: list[str]
    questions: dict[str, list[str]]
    more: list[str]
    titles: dict[str, str]
    lookalikes: tuple[str, str]
    hub: str
    news: str
    first: float
    steep: float
    headers: dict[str, str]
    sep: str
    flat: bool


GUIDES = Kind(
    host="hollowmere.example",
    brand="hollowmere",
    subjects=(
        "hedgehog badger heron kingfisher otter dormouse buzzard curlew adder newt stoat barn-owl red-fox water-vole roe-deer pine-marten "
        "brown-hare tawny-owl puffin gannet swift lapwing skylark nightjar glow-worm stag-beetle grass-snake slow-worm common-toad "
        "tree-frog polecat weasel red-squirrel harvest-mouse bank-vole fallow-deer muntjac mute-swan great-crested-grebe little-egret"
    ).split(),
    questions={
        "when": ["when to see {s}", "{s} season", "best time to see {s}", "{s} months"],
        "facts": ["{s} facts", "facts about {s}", "{s} information", "about the {s}"],
        "adopt": ["adopt a {s}", "{s} adoption", "sponsor a {s}", "adopt {s} cost"],
        "photos": ["{s} photos", "{s} pictures", "images of {s}", "{s} pics"],
        "food": ["what do {s} eat", "{s} food", "{s} diet", "feeding {s}"],
        "habitat": ["where do {s} live", "{s} habitat", "{s} home range", "where to find {s}"],
        "sound": ["{s} sound", "{s} call", "{s} noise", "what sound does a {s} make"],
        "size": ["how big is a {s}", "{s} size", "{s} weight", "{s} length"],
        "lifespan": ["how long do {s} live", "{s} lifespan", "{s} life expectancy", "{s} age"],
        "tracks": ["{s} tracks", "{s} footprints", "{s} prints", "{s} trail identification"],
        "young": ["{s} babies", "baby {s}", "young {s}", "when do {s} breed"],
        "box_plans": ["{s} box plans", "build a {s} box", "{s} box dimensions", "diy {s} box"],
        "box_buy": ["buy {s} box", "{s} box for sale", "{s} box price", "cheap {s} box"],
    },
    more=["", " uk", " for kids", " guide", " in garden", " explained", " 2026", " at night", " easy"],
    titles={
        "when": "When to see {S}", "facts": "{S} facts", "adopt": "Adopt a {S}: what it costs", "photos": "{S} pictures",
        "food": "What {S} eat: food and diet", "habitat": "Where {S} live: habitat", "sound": "{S} sounds and calls",
        "size": "How big is a {S}? Size and weight", "lifespan": "How long do {S} live? Lifespan", "tracks": "{S} tracks and footprints",
        "young": "Baby {S} and breeding", "box_plans": "{S} box plans: build your own box", "box_buy": "Buy a {S} box",
    },
    lookalikes=("box_plans", "box_buy"),
    hub="All about the {S}",
    news="News of {y}: {S} day {n}",
    first=0.27,
    steep=1.15,
    headers={
        "date": "Day", "page": "Page address", "query": "Searched for", "clicks": "Clicks", "impressions": "Impressions", "position": "Average position",
        "landing": "Landing page", "channel": "Channel", "sessions": "Sessions", "engaged": "Engaged sessions", "conversions": "Conversions",
        "status": "Status code", "title": "Title", "h1": "H1", "noindex": "Noindex", "inlinks": "Links in", "outlinks": "Links out",
        "words": "Word count", "published": "First published", "redirect": "Redirects to", "depth": "Depth", "canonical": "Canonical",
        "volume": "Searches", "month": "Month", "source": "From page", "target": "To page", "anchor": "Anchor",
    },
    sep=",",
    flat=False,
)  # fmt: skip

SHOP = Kind(
    host="eschengrund.example",
    brand="eschengrund",
    subjects=(
        "eiche buche kiefer fichte ahorn nussbaum kirsche birke esche teak akazie bambus zirbe tanne ulme linde mahagoni olivenholz "
        "douglasie eukalyptus mangoholz sheesham erle pappel robinie palisander wenge kastanie birnbaum apfelbaum zeder hickory"
    ).split(),
    questions={
        "pflege": ["{s} pflegen", "{s} pflege", "{s} reinigen", "{s} sauber halten"],
        "oelen": ["{s} ölen", "{s} öl", "{s} geölt oder lackiert", "welches öl für {s}"],
        "preis": ["{s} preis", "was kostet {s}", "{s} kosten pro m2", "{s} preis kubikmeter"],
        "farbe": ["{s} farbe", "{s} farbton", "welche farbe hat {s}", "{s} hell oder dunkel"],
        "haerte": ["{s} härte", "wie hart ist {s}", "{s} härtegrad", "{s} brinell"],
        "aussen": ["{s} im außenbereich", "{s} wetterfest", "{s} draußen", "{s} für terrasse"],
        "erkennen": ["{s} erkennen", "{s} maserung", "woran erkennt man {s}", "{s} holzstruktur"],
        "schleifen": ["{s} schleifen", "{s} abschleifen", "{s} körnung", "{s} holz glätten"],
        "brennholz": ["{s} brennholz", "{s} heizwert", "{s} kaminholz", "{s} verbrennen"],
        "platte_kaufen": ["{s} platte kaufen", "{s} platte nach maß", "{s} platte angebot", "{s} tischplatte bestellen"],
        "platte_bauen": ["{s} platte verleimen", "{s} platte selber bauen", "{s} platte anleitung", "{s} tischplatte selber machen"],
        "riss": ["{s} risse", "{s} riss füllen", "{s} risse reparieren", "{s} spaltet sich"],
    },
    more=["", " tipps", " erfahrungen", " 2026", " möbel", " richtig", " innen", " ratgeber"],
    titles={
        "pflege": "{S} pflegen und reinigen", "oelen": "{S} ölen: welches Öl?", "preis": "{S}: Preis pro Kubikmeter", "farbe": "Farbe von {S}",
        "haerte": "Wie hart ist {S}?", "aussen": "{S} im Außenbereich", "erkennen": "{S} erkennen: Maserung", "schleifen": "{S} schleifen: Körnung",
        "brennholz": "{S} als Brennholz: Heizwert", "platte_kaufen": "{S} Platte kaufen nach Maß", "platte_bauen": "{S} Platte selber bauen: Anleitung",
        "riss": "Risse in {S} reparieren",
    },
    lookalikes=("platte_bauen", "platte_kaufen"),
    hub="{S}: alles zum Holz",
    news="Aktuelles {y}: {S} Nr. {n}",
    first=0.22,
    steep=0.95,
    headers={
        "date": "Datum", "page": "Seite", "query": "Suchanfrage", "clicks": "Klicks", "impressions": "Impressionen", "position": "Position",
        "landing": "Zielseite", "channel": "Kanal", "sessions": "Sitzungen", "engaged": "Sitzungen mit Interaktion", "conversions": "Abschlüsse",
        "status": "Statuscode", "title": "Titel", "h1": "H1", "noindex": "Noindex", "inlinks": "Eingehende Links", "outlinks": "Ausgehende Links",
        "words": "Wörter", "published": "Veröffentlicht", "redirect": "Weiterleitung nach", "depth": "Klicktiefe", "canonical": "Canonical",
        "volume": "Suchvolumen", "month": "Monat", "source": "Quelle", "target": "Ziel", "anchor": "Ankertext",
    },
    sep=";",
    flat=True,
)  # fmt: skip
KINDS = {"guides": GUIDES, "shop": SHOP}
#: share of days on which sisters are shown, how much further down, how ranks stray, what share of impressions names no query, how much is searched
LEVELS = {"usual": (0.2, 0.8, 0.16, 1 / 3, 1.0), "hard": (0.35, 0.5, 0.25, 0.45, 0.5)}


@dataclass
class Site:
    """The truth: pages, pairs of page and query with their latent course, intents of all queries."""

    kind: Kind
    pages: pd.DataFrame
    pairs: pd.DataFrame
    intents: pd.DataFrame
    rng: np.random.Generator
    noise: float
    withheld: float


def _name(subject: str) -> str:
    return subject.replace("-", " ")


def plan_site(name: str, seed: int, level: str = "usual") -> Site:
    """The site before anything is lived through."""
    kind, rng = KINDS[name], np.random.default_rng([seed, len(name), 7])
    sisters, further, noise, withheld, size = LEVELS[level]
    pages: Rows = []

    def page(path: str, case: str, verdict: str, title: str, **more: object) -> int:
        pages.append({"path": path, "case": case, "verdict": verdict, "title": title, "also": "", "subject": "", "intent": "", **more})
        return len(pages) - 1

    page("/", "home", "keep", kind.brand.title(), hub=True)
    for path, title in (("/legal", "Terms"), ("/contact", "Contact")):
        page(path, "protected", "keep", title)
    pool: list[tuple[str, str]] = []
    for subject in kind.subjects:
        asked = [q for q in kind.questions if q not in kind.lookalikes]
        chosen = list(rng.permutation(asked)[: rng.integers(4, 7)])
        if rng.random() < 0.3:
            chosen += kind.lookalikes
        pool += [(subject, q) for q in chosen]
        hub_quiet = rng.random() < 0.5
        page(
            f"/{subject}",
            "hub" if hub_quiet else "hub_visited",
            "keep",
            kind.hub.format(S=_name(subject).title()),
            subject=subject,
            hub=True,
        )
    order = rng.permutation(len(pool))
    cases = iter(
        ["sunk"] * 12 + ["mild"] * 14 + ["stuck"] * 12 + ["untitled"] * 8 + ["dull_title"] * 7 + ["leave"] * 7 + ["leave_some"] * 5
        + ["double"] * 10 + ["draws"] * 12 + ["new"] * 6 + ["new_undated"] * 8 + ["seasonal"] * 6 + ["failed"] * 6 + ["orphan"] * 8 + ["moved"] * 6
    )  # fmt: skip
    verdicts = {"sunk": "refresh", "mild": "refresh", "stuck": "refresh", "untitled": "refresh", "dull_title": "refresh", "leave": "refresh",
                "leave_some": "refresh", "draws": "expand", "new": "watch", "new_undated": "watch", "failed": "", "moved": "keep"}  # fmt: skip
    also = {"dull_title": "keep", "leave_some": "keep", "mild": "keep"}
    of_intent: dict[tuple[str, str], int] = {}
    for at in order:
        subject, question = pool[at]
        case = "look_alike" if question in kind.lookalikes else next(cases, "steady")
        slug = question.replace("_", "-")
        path = f"/{subject}-{slug}" if kind.flat else f"/{subject}/{slug}"
        title = kind.titles[question].format(S=_name(subject).title())
        if case in ("untitled", "dull_title"):
            title = f"{_name(subject).title()} {kind.brand.title()}"
        more = {"subject": subject, "intent": f"{subject}|{question}", "also": also.get(case, "")}
        one = page(path, case, verdicts.get(case, "keep"), title, **more)
        of_intent[subject, question] = one
        if case == "double":
            words = kind.questions[question][1].format(s=_name(subject)).title()
            other = (
                f"/{subject}-{slug}-2"
                if kind.flat
                else f"/{subject}/{kind.questions[question][1].format(s='').strip().replace(' ', '-')}-info"
            )
            twin = page(other, "double_of", "consolidate", words, **{**more, "also": "", "twin": one})
            pages[one]["twin"] = twin
        if case == "moved":
            old = page(f"/old{path}", "gone_moved", "", title, **{**more, "leads": one})
            pages[one]["old"] = old
    for number in range(24):
        subject = str(rng.choice(kind.subjects))
        case = "dead_selling" if number < 5 else "dead_linked" if number < 9 else "dead"
        page(
            f"/news-{number + 100}" if kind.flat else f"/news/{number + 100}",
            case,
            "prune" if case == "dead" else "keep",
            kind.news.format(S=_name(subject).title(), y=2019 + number % 4, n=number),
        )
    asked = _searches(kind, rng, pages, of_intent, size)
    table = pd.DataFrame(pages)
    pairs = _pairs(table, asked, of_intent, rng, sisters, further, kind)
    table["page"] = "https://" + kind.host + table["path"]
    return Site(kind, table, pairs, asked, rng, noise, withheld)


def _searches(kind: Kind, rng: np.random.Generator, pages: Rows, of_intent: dict[tuple[str, str], int], size: float) -> pd.DataFrame:
    """What is searched for: every intent of the site, and those that no page answers: query, intent, who, monthly, boxed."""
    missing = [(s, q) for s in kind.subjects for q in kind.questions if (s, q) not in of_intent and q not in kind.lookalikes]
    missing = [missing[i] for i in rng.permutation(len(missing))]
    wanted: dict[tuple[str, str], str] = {}
    for i, page in enumerate(pages):
        if page["case"] != "draws":
            continue
        here = [pair for pair in missing if pair[0] == page["subject"] and pair not in wanted]
        if here:
            wanted[here[0]] = f"drawn:{i}"
        else:
            page["case"], page["verdict"] = "steady", "keep"
    wanted |= dict.fromkeys([pair for pair in missing if pair not in wanted][:12], "unseen")
    queries: Rows = []
    for (subject, question), who in itertools.chain(((k, "owned") for k in of_intent), wanted.items()):
        big = rng.lognormal(6.6, 0.75) * size
        if who != "owned":
            big = rng.uniform(1500, 4500) * size
        forms = [form.format(s=_name(subject)) for form in kind.questions[question]]
        phrases = [form + more for form in forms for more in ["", *rng.choice(kind.more[1:], 2, replace=False)]]
        weight = 1 / np.arange(1, len(phrases) + 1) ** 0.9
        weight = rng.permutation(weight[:4]).tolist() + weight[4:].tolist()
        boxed = rng.random(len(phrases)) < 0.12
        for text, part, box in zip(phrases, np.array(weight) / sum(weight), boxed, strict=True):
            queries.append({"query": text, "intent": f"{subject}|{question}", "who": who, "monthly": big * part, "boxed": bool(box)})
    return pd.DataFrame(queries).drop_duplicates("query", ignore_index=True)


def _hubs(pages: pd.DataFrame) -> dict[str, int]:
    """The hub of each subject."""
    rows = pages[pages["case"].str.startswith("hub")]
    return {str(subject): int(i) for i, subject in rows["subject"].items()}


def _pairs(
    pages: pd.DataFrame,
    asked: pd.DataFrame,
    of_intent: dict[tuple[str, str], int],
    rng: np.random.Generator,
    sisters: float,
    further: float,
    kind: Kind,
) -> pd.DataFrame:
    """Which page is shown for which query: role, middle rank, share of days shown, how eagerly chosen."""
    rows: Rows = []
    case, twins = pages["case"].to_numpy(), pages["twin"].to_numpy()
    owner = {f"{s}|{q}": i for (s, q), i in of_intent.items()}
    by_subject: dict[str, list[int]] = {}
    for (s, _), i in of_intent.items():
        by_subject.setdefault(s, []).append(i)
    hub = _hubs(pages)
    eager = np.exp(rng.normal(0, 0.15, len(pages)))
    eager[pages["case"].eq("untitled")] *= 0.45
    eager[pages["case"].eq("dull_title")] *= 0.68
    rank = np.exp(rng.uniform(np.log(1.6), np.log(7.5), len(pages)))
    stuck = pages["case"].eq("stuck")
    rank[stuck] = rng.uniform(11.5, 17, int(stuck.sum()))
    rank[pages["case"].isin(["untitled", "dull_title"])] = rng.uniform(2.0, 5.0, int(pages["case"].isin(["untitled", "dull_title"]).sum()))
    shows = {(a, b): rng.beta(1.2, 1.2 / sisters - 1.2) for mine in by_subject.values() for a in mine for b in mine if a != b}
    plain = pages["also"].eq("") & pages["verdict"].eq("keep") & pages["intent"].ne("")
    pages.loc[plain & (rank >= 5.0), "also"] = "refresh"  # climbing pays there, whatever else is planted
    for at, query in asked.iterrows():
        intent = str(query["intent"])
        subject = intent.split("|", maxsplit=1)[0]
        swing = float(np.exp(rng.normal(0, 0.25)))
        base = {"query": at, "intent": intent}
        if (mine := owner.get(intent)) is not None:
            rows.append({**base, "page": mine, "role": "own", "rank": rank[mine] * swing, "shown": 1.0, "eager": eager[mine]})
            if pd.notna(twin := twins[mine]):
                place = rank[mine] * swing * rng.uniform(0.92, 1.1)
                rows.append({**base, "page": int(twin), "role": "own", "rank": place, "shown": 1.0, "eager": eager[mine]})
            for sister in by_subject[subject]:
                if sister != mine and (often := shows[mine, sister]) * rng.uniform(0.3, 1.7) > 0.12:
                    place = rank[mine] * swing * np.exp(abs(rng.normal(further, 0.35)))
                    rows.append({**base, "page": sister, "role": "sister", "rank": place, "shown": min(often, 0.95), "eager": 0.35})
            if case[hub[subject]] == "hub_visited" and rng.random() < 0.4:
                rows.append({**base, "page": hub[subject], "role": "sister", "rank": rank[mine] * swing * 2.2, "shown": 0.3, "eager": 0.3})
        elif str(query["who"]).startswith("drawn:"):
            page = int(str(query["who"]).split(":")[1])
            rows.append({**base, "page": page, "role": "stray", "rank": rng.uniform(17, 30), "shown": 0.9, "eager": 0.5})
    for form, monthly in (("{b}", 2600), ("{b} login", 300), ("www {b}", 200)):
        asked.loc[len(asked)] = {"query": form.format(b=kind.brand), "intent": "brand", "who": "owned", "monthly": monthly, "boxed": False}
        rows.append({"query": len(asked) - 1, "intent": "brand", "page": 0, "role": "own", "rank": 1.05, "shown": 1.0, "eager": 2.0})
    return pd.DataFrame(rows)


def _places(site: Site) -> tuple[Floats, Floats, Floats]:
    """The rank of each pair on each day: it wanders by itself and with its page, an update of the engine moves all, some pages sink; the
    same rank without the wandering; and without the sinking either."""
    rng, pairs, pages, day = site.rng, site.pairs, site.pages, np.arange(DAYS)
    spread, memory = site.noise, 0.9
    stray = lfilter([1.0], [1, -memory], rng.normal(0, spread * np.sqrt(1 - memory**2), (len(pairs), DAYS)), axis=1)
    loose = rng.normal(0, 0.05, (len(pairs), DAYS))
    together = lfilter([1.0], [1, -0.98], rng.normal(0, 0.1 * np.sqrt(1 - 0.98**2), (len(pages), DAYS)), axis=1)
    update = rng.normal(0, 0.06, len(pages))[:, None] * (day[None] > DAYS - 210)
    course = np.zeros((len(pages), DAYS))
    for i, case in enumerate(pages["case"]):
        start, long = DAYS - int(rng.integers(100, 240)), int(rng.integers(1, 60))
        if case in ("sunk", "mild"):
            left = rng.uniform(0.25, 0.45) if case == "sunk" else rng.uniform(0.52, 0.72)
            course[i] = -np.log(left) / site.kind.steep * np.clip((day - start) / long, 0, 1)
    planned = np.log(pairs["rank"].to_numpy())[:, None] + (update + course)[pairs["page"].to_numpy()]
    log_rank = planned + stray + loose + together[pairs["page"].to_numpy()]
    afloat = planned - course[pairs["page"].to_numpy()]
    return np.maximum(np.exp(log_rank), 1.0), np.maximum(np.exp(planned), 1.0), np.maximum(np.exp(afloat), 1.0)


def _shown(site: Site, position: Floats) -> NDArray[np.bool_]:
    """Whether each pair is shown on each day; of two twins the better one always, the other on two days in five."""
    rng, pairs, pages = site.rng, site.pairs, site.pages
    shown = rng.random((len(pairs), DAYS)) < pairs["shown"].to_numpy()[:, None]
    twins = pairs.assign(at=np.arange(len(pairs)))[pairs["page"].isin(pages.index[pages["twin"].notna()]) & pairs["role"].eq("own")]
    for _, both in twins.groupby("query")["at"]:
        if len(both) == 2:
            a, b = both
            lead = position[a] <= position[b]
            extra = rng.random(DAYS) < 0.4
            shown[a] &= lead | extra
            shown[b] &= ~lead | extra
    return shown


def _demand(site: Site) -> Floats:
    """Searches for each query on each day: some subjects have a season, some fade, weeks have their rhythm."""
    rng, asked, day = site.rng, site.intents, np.arange(DAYS)
    subject = pd.factorize(asked["intent"].str.split("|").str[0])[0]
    many = subject.max() + 1
    wave = 1 + rng.choice([0, 0, 0.35], many)[:, None] * np.cos(2 * np.pi * (day[None] - rng.uniform(0, 365, many)[:, None]) / 365.25)
    drop = np.ones((many, DAYS))
    drop[rng.permutation(many)[: max(3, many // 10)]] = np.clip(1 - (day - 120) / 300, 0.45, 1.0)[None]
    week = 1 + 0.12 * np.cos(2 * np.pi * day / 7)
    return asked["monthly"].to_numpy()[:, None] / 30.4 * wave[subject] * drop[subject] * week[None]


@dataclass(frozen=True)
class Plan:
    """Clicks of each page on each day without the wandering of ranks and without chance: as they are meant; `mended` by whatever is wrong with
    the page: afloat again, with a title that sells, or with a page for the queries that it draws astray; `climbed`: as high as its like, and no lower
    than it was meant to stand.
    """

    meant: Floats
    mended: Floats
    climbed: Floats


def live(site: Site) -> tuple[pd.DataFrame, pd.DataFrame, Plan]:
    """Rows of page, query and day with impressions, clicks, position; the days on which each page was born and died; and the plan."""
    rng, pairs, pages, day = site.rng, site.pairs, site.pages, np.arange(DAYS)
    of_page, of_query, case = pairs["page"].to_numpy(), pairs["query"].to_numpy(), pages["case"].to_numpy()
    demand = _demand(site)
    season = np.exp(6 * (np.cos(2 * np.pi * (day - rng.uniform(0, 365)) / 365.25) - 1))
    position, planned, afloat = _places(site)
    shown = _shown(site, position)

    def visible(place: Floats) -> Floats:
        share: Floats = np.where(place < 10, 1.0, np.exp(-(place - 10) / 14))
        return share

    def rated(place: Floats) -> Floats:
        rate = np.minimum(site.kind.first * place**-site.kind.steep, 0.6) * pairs["eager"].to_numpy()[:, None]
        likely: Floats = np.minimum(rate * np.where(site.intents["boxed"].to_numpy()[of_query], 0.3, 1.0)[:, None], 0.9)
        return likely

    born, died = np.zeros(len(pages)), np.full(len(pages), DAYS + 1)
    for i in np.flatnonzero(np.isin(case, ["new", "new_undated"])):
        born[i] = DAYS - rng.integers(25, 120)
    died[case == "failed"] = DAYS - rng.integers(60, 150, int((case == "failed").sum()))
    alive = (day[None] >= born[:, None]) & (day[None] < died[:, None])
    often = np.where((case == "seasonal")[of_page][:, None], season[None], 1.0)
    quiet = np.where((case == "new_undated") & (rng.random(len(pages)) < 0.6), 0.004, 1.0)  # hardly found yet
    wanted = demand[of_query] * alive[of_page] * often * quiet[of_page][:, None]
    looks = rng.poisson(wanted * visible(position) * shown)
    clicks = rng.binomial(looks, rated(position))
    meant = np.zeros((len(pages), DAYS))
    often_shown = shown.mean(axis=1, keepdims=True)
    np.add.at(meant, of_page, wanted * visible(planned) * often_shown * rated(planned))
    mended, own = np.zeros((len(pages), DAYS)), (pairs["role"] == "own").to_numpy()
    kind_of = case[of_page]
    sells = np.select([kind_of == "untitled", kind_of == "dull_title"], [1 / 0.45, 1 / 0.68], 1.0)[:, None]
    better = wanted * visible(afloat) * often_shown * np.minimum(rated(afloat) * np.where(own[:, None], sells, 1.0), 0.9)
    middle = pairs.groupby(["page", "role"])["rank"].transform("median")
    swing = (pairs["rank"] / middle).to_numpy()[:, None]
    chosen = np.where(own, pairs["eager"].to_numpy(), 1.0)[:, None]
    boxed = np.where(site.intents["boxed"].to_numpy()[of_query], 0.3, 1.0)[:, None]
    held = np.where(own, pairs["rank"].to_numpy(), np.inf)[:, None]  # who climbs falls nowhere
    # where a mended page comes to stand is drawn from where pages of this site stand
    reached = np.exp(rng.spawn(1)[0].uniform(np.log(1.6), np.log(7.5), len(pages)))[of_page][:, None]
    places = np.minimum(reached * swing, held)
    clicks_each = visible(places) * np.minimum(site.kind.first * places**-site.kind.steep, 0.6) * chosen * boxed
    stray = (pairs["role"] == "stray").to_numpy()
    better[stray] = (wanted * clicks_each)[stray]
    climbed = meant.copy()
    np.add.at(climbed, of_page[own], (wanted * (clicks_each - visible(planned) * often_shown * rated(planned)))[own])
    np.add.at(mended, of_page, better)
    at, when = np.nonzero(looks)
    address, moved = of_page[at].copy(), pages["old"].to_numpy(float)
    before = (when < DAYS - 300) & ~np.isnan(moved[address])
    address[before] = moved[address[before]].astype(int)
    seen = np.round(np.maximum(position[at, when] * np.exp(rng.normal(0, 0.03, len(at))), 1.0), 1)
    counts = {"impressions": looks[at, when], "clicks": clicks[at, when], "position": seen}
    lives = pd.DataFrame({"born": born, "died": died})
    return pd.DataFrame({"page": address, "query": of_query[at], "day": when, **counts}), lives, Plan(meant, mended, climbed)


def write(folder: Path, name: str, seed: int, level: str = "usual") -> Site:
    """Write the exports of a site into a folder, and the truth beside it (truth_*.csv in its parent)."""
    site = plan_site(name, seed, level)
    kind, rng, pages, asked = site.kind, site.rng, site.pages, site.intents
    rows, lives, _ = live(site)
    head, first = kind.headers, LAST - pd.Timedelta(days=DAYS - 1)
    dates = (first + pd.to_timedelta(np.arange(DAYS), unit="D")).strftime("%d.%m.%Y" if kind.flat else "%Y-%m-%d").to_numpy()
    folder.mkdir(parents=True, exist_ok=True)

    def csv(table: pd.DataFrame, file: str) -> None:
        out = table.rename(columns=head)
        out.to_csv(folder / file, index=False, sep=kind.sep, decimal="," if kind.sep == ";" else ".", compression="infer")

    rows["weight"] = rows["position"] * rows["impressions"]
    totals = rows.groupby(["day", "page"])[["clicks", "impressions", "weight"]].sum().reset_index()
    totals["position"] = (totals["weight"] / totals["impressions"]).round(2)
    address, text = pages["page"].to_numpy(), asked["query"].to_numpy()
    csv(
        pd.DataFrame({"date": dates[totals["day"]], "page": address[totals["page"]], **totals[["clicks", "impressions", "position"]]}),
        "search-pages.csv.gz",
    )
    few, wide = 0.0, 60.0
    for _ in range(30):
        k = (few + wide) / 2
        seen = rows["impressions"] / (rows["impressions"] + k)
        few, wide = (k, wide) if (seen * rows["impressions"]).sum() / rows["impressions"].sum() > 1 - site.withheld else (few, k)
    told = rows[rng.random(len(rows)) < seen]
    pair = {"date": dates[told["day"]], "page": address[told["page"]], "query": text[told["query"]]}
    csv(pd.DataFrame({**pair, **told[["clicks", "impressions", "position"]]}), "search-queries.csv.gz")
    _landings(site, totals, lives, dates, csv)
    links = _crawl(site, lives, first, csv)
    linked = pages.index[pages["case"].eq("dead_linked")]
    more = rng.choice(pages.index[pages["case"].isin(["steady", "home", "failed"])], 60)
    outside = [f"https://site{i}.example/about-{i}" for i in range(len(linked) * 2 + len(more))]
    csv(pd.DataFrame({"source": outside, "target": address[np.concatenate([linked, linked, more])]}), "backlinks.csv")
    months = pd.period_range(LAST - pd.DateOffset(months=11), LAST, freq="M")
    known = asked[asked["intent"] != "brand"].sample(frac=0.8, random_state=seed)
    known = pd.concat([known, asked[asked["who"] != "owned"]]).drop_duplicates("query")
    volume = known.loc[known.index.repeat(12)].assign(month=np.tile(months.astype(str), len(known)))
    searched = np.maximum(np.round(volume["monthly"] * np.exp(rng.normal(0, 0.15, len(volume))), -1), 10).astype(int)
    csv(pd.DataFrame({"query": volume["query"], "month": volume["month"], "volume": searched}), "keyword-demand.csv")
    _snapshots(site, known, folder)
    brand = f'home = "https://{kind.host}/"\nbrand = ["{kind.brand}"]\n'
    (folder.parent / "site.toml").write_text(brand, "utf-8")
    truth = pages[["page", "path", "case", "verdict", "also", "subject", "intent"]].assign(inlinks=links)
    twins = pages["twin"].map(pages["page"]) if "twin" in pages else None
    truth.assign(twin=twins).to_csv(folder.parent / "truth_pages.csv", index=False)
    asked.to_csv(folder.parent / "truth_queries.csv", index=False)
    site.pairs.assign(page=address[site.pairs["page"]], query=text[site.pairs["query"]]).to_csv(
        folder.parent / "truth_pairs.csv", index=False
    )
    return site


def _landings(site: Site, totals: pd.DataFrame, lives: pd.DataFrame, dates: NDArray[np.object_], csv) -> None:  # type: ignore[no-untyped-def]
    """Visits by page, day and channel; relative addresses."""
    rng, pages = site.rng, site.pages
    usual = 0.6 if not site.kind.flat else 0.45
    engaged = (
        pages["case"].map({"leave": 0.45, "leave_some": 0.68}).fillna(1.0).to_numpy() * usual * np.exp(rng.normal(0, 0.05, len(pages)))
    )
    sells = pages["intent"].str.endswith(("adopt", "box_buy", "platte_kaufen", "preis")).to_numpy() * 0.03 + 0.002
    organic = totals.assign(sessions=rng.binomial(totals["clicks"], 0.93), channel="Organic Search")[["day", "page", "sessions", "channel"]]
    level = (
        pages["case"]
        .map({"home": 25.0, "dead": 0.0, "dead_linked": 0.002, "dead_selling": 0.25, "protected": 0.5, "hub": 0.02, "hub_visited": 0.2})
        .fillna(0.4)
        .to_numpy()
    )
    direct = rng.poisson(
        level[:, None]
        * ((np.arange(DAYS)[None] >= lives["born"].to_numpy()[:, None]) & (np.arange(DAYS)[None] < lives["died"].to_numpy()[:, None]))
    )
    direct[pages["case"].eq("gone_moved")] = 0
    page, day = np.nonzero(direct)
    other = pd.DataFrame(
        {"day": day, "page": page, "sessions": direct[page, day], "channel": rng.choice(["Direct", "Referral", "Email"], len(page))}
    )
    rows = pd.concat([organic[organic["sessions"] > 0], other], ignore_index=True).sort_values(["day", "page"])
    at = rows["page"].to_numpy()
    rows["engaged"] = rng.binomial(rows["sessions"], np.clip(engaged[at], 0, 0.97))
    sold = np.where(pages["case"].to_numpy() == "dead_selling", 0.08, sells)
    rows["conversions"] = rng.binomial(rows["sessions"], sold[at])
    path = pages["path"].to_numpy()
    csv(
        pd.DataFrame({"date": dates[rows["day"]], "landing": path[at], **rows[["channel", "sessions", "engaged", "conversions"]]}),
        "visits.csv.gz",
    )


def _crawl(site: Site, lives: pd.DataFrame, first: pd.Timestamp, csv) -> pd.Series:  # type: ignore[no-untyped-def]
    """The inventory and the links between pages; gives how many pages link to each."""
    rng, pages, kind = site.rng, site.pages, site.kind
    live = ~pages["case"].isin(["gone_moved", "failed"])
    hub, case = _hubs(pages), pages["case"].to_numpy()
    links: list[tuple[int, int]] = [(0, h) for h in hub.values()] + [(i, j) for i in (0, *hub.values()) for j in (1, 2)]
    of_subject = pages[pages["intent"].ne("") & pages["case"].ne("gone_moved")]
    for subject, members in of_subject.groupby("subject").groups.items():
        for i in members:
            if case[i] != "orphan":
                links.append((hub[str(subject)], i))
                often = 0.0 if case[hub[str(subject)]] == "hub" else 0.7  # where nobody visits the hub it is the only way
                links += [(i, int(j)) for j in rng.choice(members, 2) if j != i and case[j] != "orphan" and rng.random() < often]
    news = pages.index[pages["path"].str.startswith("/news")]
    links += [(0, int(i)) for i in news]
    links = [(a, b) for a, b in dict.fromkeys(links) if live[a] and a != b]
    table = pd.DataFrame(links, columns=["source", "target"])
    inlinks, outlinks = (table.groupby(side)["source"].size().reindex(pages.index, fill_value=0) for side in ("target", "source"))
    dated = rng.random(len(pages)) < 0.7
    born = first + pd.to_timedelta(lives["born"], unit="D")
    old = LAST - pd.to_timedelta(rng.integers(700, 2500, len(pages)), unit="D")
    published = pd.Series(np.where(lives["born"] > 0, born, old), index=pages.index)
    published = published.where((dated | pages["case"].eq("new") | pages["path"].str.startswith("/news")) & pages["case"].ne("new_undated"))
    text = pages["title"]
    status = np.select([pages["case"].eq("gone_moved"), pages["case"].eq("failed")], [301, 404], 200)
    crawl = pd.DataFrame(
        {
            "page": pages["page"],
            "status": status,
            "title": text.where(pages["case"].ne("failed") & live, "") + np.where(live, " | " + kind.brand.title(), ""),
            "h1": np.where(live, text, ""),
            "noindex": "no" if not kind.flat else "nein",
            "words": rng.integers(250, 1600, len(pages)),
            "inlinks": inlinks,
            "outlinks": outlinks,
            "depth": np.where(pages.index == 0, 0, np.where(pages["case"].str.startswith("hub"), 1, 2)),
            "redirect": pages["leads"].map(pages["page"]) if "leads" in pages else None,
            "published": published.dt.strftime("%Y-%m-%d"),
        }
    )
    if kind.flat:
        # the second hand: no dates in its inventory; news is old by the editors' list alone
        csv(pd.DataFrame({"page": pages.loc[news, "page"], "published": published[news].dt.strftime("%d.%m.%Y")}), "redaktion.csv")
        crawl = crawl.drop(columns=["published", "depth"])
    csv(crawl, "site-inventory.csv")
    anchor = pages["title"].to_numpy()[table["target"]]
    csv(
        pd.DataFrame(
            {"source": pages["page"].to_numpy()[table["source"]], "target": pages["page"].to_numpy()[table["target"]], "anchor": anchor}
        ),
        "internal-links.csv",
    )
    return inlinks


def _snapshots(site: Site, known: pd.DataFrame, folder: Path) -> None:
    """The first ten results of the most searched queries: each intent has its own pool of pages elsewhere, a subject two that stand everywhere."""
    rng = site.rng
    rows: Rows = []
    top = pd.concat([group.nlargest(4, "monthly") for _, group in known.groupby("intent")])
    for _, query in top.iterrows():
        subject = str(query["intent"]).split("|")[0]
        own = [
            f"https://{h}.example/{hash_text(query['intent'] + h) % 10**9}"
            for h in ("fenwick", "ashby", "corrin", "dunmore", "ellery", "garth", "hale", "ivers", "kestle", "loxley", "marden", "norrey")
        ]
        chosen = [f"https://allthings.example/{subject}", *rng.permutation(own)[:8], f"https://wide.example/{subject}"]
        rows += [{"query": query["query"], "date": "2026-10-28", "rank": r + 1, "url": u} for r, u in enumerate(rng.permutation(chosen))]
    pd.DataFrame(rows).to_csv(folder / "result-snapshots.csv", index=False)


def hash_text(text: str) -> int:
    """A number for a text that is the same in every process."""
    return int.from_bytes(blake2b(text.encode(), digest_size=6).digest(), "big")
