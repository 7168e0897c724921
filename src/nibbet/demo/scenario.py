"""The truth about Tarnbrook: its pages, what each answers, how it ranks, and the right verdict.

This package does not know how Nibbet decides; the analysis never imports it and never reads the truth.
"""

from __future__ import annotations

from datetime import timedelta
from typing import Any

import numpy as np
import pandas as pd

from nibbet.demo import vocabulary as words
from nibbet.demo.builder import (
    CASES,
    FIRST_DAY,
    GUIDES,
    KINDS,
    LAST_COMPLETE_DAY,
    LEVELS,
    VERDICT_OF,
    Builder,
    Level,
    World,
    slug,
    usual_place,
)


def build(pages: int = 400, seed: int = 7, level: Level = LEVELS["easy"]) -> World:
    """A world of about `pages` pages; equal arguments give an equal world."""
    b = Builder(pages, seed, level)
    _home_and_help(b)
    _subjects(b)
    _look_alikes(b)
    _fading_subject(b)
    _duplicates(b)
    _dead(b)
    _cases(b)
    _faults(b)
    _overshadowed(b)
    _abroad(b)
    _events(b)
    _closed(b)
    frame = pd.DataFrame(b.pages)
    pairs = pd.DataFrame([row for rows in b.queries.values() for row in rows])
    pairs["mended_position"], pairs["mended_pull"] = (pairs[f"mended_{name}"].fillna(pairs[name]) for name in ("position", "pull"))
    carried = frame[["page", "pull", "onset", "sink", "fade", "leads", "published", "status", "noindex", "case"]].rename(
        columns={"pull": "page_pull"}
    )
    pairs = (
        pairs.assign(alone=-1.0)
        .merge(carried, on="page", how="left", validate="m:1")
        .sort_values(["unit", "page"], kind="stable", ignore_index=True)
    )
    return World(frame, pairs, seed, level)


def mended(world: World) -> World:
    """The same world with every fault repaired that a refresh, a merge or an expansion can repair: the most that those verdicts can gain.

    Sunk pages have their former position, pages below the clicks the usual one, titles the usual CTR; one page of each group of duplicates
    answers alone, and strays have a page that answers them. Demand, season and all random numbers are unchanged.
    """
    pairs = world.pairs.assign(position=world.pairs["mended_position"], pull=world.pairs["mended_pull"], sink=1.0, fade=1.0)
    pairs["page_pull"] = pairs["page"].map(world.pages.set_index("page")["mended_pull"])
    case = pairs["page"].map(world.pages.set_index("page")["case"])
    pairs["alone"] = case.map({"duplicate_survivor": 1.0, "duplicate": 0.0}).fillna(-1.0)
    return World(world.pages, pairs, world.seed, world.level)


def _home_and_help(b: Builder) -> None:
    home = b.page(
        "home",
        "Tarnbrook",
        "/",
        title="Tarnbrook: kayak and canoe touring",
        outlinks=60,
        inlinks=b.count - 1,
        backlinks=40,
        demand=55.0,
        position=1.1,
        other_sessions=30.0,
        conversion=0.01,
        season="shop",
        description="Touring by paddle.",
    )
    for query, share in (("tarnbrook", 1.0), ("tarn brook canoe", 0.25), ("tarnbrook shop", 0.2), ("tarnbrook opening times", 0.1)):
        b.add(
            {
                "page": home["page"],
                "unit": 0,
                "query": query,
                "demand": 55 * share,
                "position": 1.05,
                "pull": 1.0,
                "brand": True,
                "role": "own",
                "season": "shop",
                "trend": "level",
            }
        )
    b.unit += 1
    for kind in ("rivers", "lakes", "technique", "kit", "shop", "hire", "courses", "journal", "help"):
        hub = b.page(
            kind,
            f"All {kind}",
            f"/{kind}/",
            title=f"All {kind} | Tarnbrook",
            outlinks=int(40 + b.count * 0.05),
            inlinks=b.count // 2,
            backlinks=3,
            other_sessions=2.0,
            case="hub",
        )
        b.add(
            {
                "page": hub["page"],
                "unit": b.unit,
                "query": f"tarnbrook {kind}",
                "demand": 4.0,
                "position": 1.3,
                "pull": 1.0,
                "brand": True,
                "role": "own",
                "season": kind,
                "trend": "level",
            }
        )
        b.unit += 1
    for topic in words.HELP.split("|")[: max(4, round(b.count * KINDS["help"]))]:
        page = b.page("help", topic, f"/help/{slug(topic)}/", other_sessions=1.5)
        b.add(
            {
                "page": page["page"],
                "unit": b.unit,
                "query": f"tarnbrook {topic}",
                "demand": 2.0,
                "position": 1.2,
                "pull": 1.0,
                "brand": True,
                "role": "own",
                "season": "shop",
                "trend": "level",
            }
        )
        b.unit += 1
    for topic in words.LEGAL.split("|"):
        b.page(
            "legal", topic, f"/legal/{slug(topic)}/", other_sessions=0.006, protected=True, case="dead_protected", backlinks=0, inlinks=400
        )
        b.unit += 1


def _subjects(b: Builder) -> None:
    lists = {
        "rivers": words.waters()[0::2],
        "lakes": words.waters()[1::2],
        "technique": words.STROKES,
        "kit": words.KIT,
        "shop": words.KIT,
        "hire": words.waters()[1::2],
        "courses": words.COURSES,
        "journal": words.waters()[0::2],
    }
    for kind, share in KINDS.items():
        if kind == "help":
            continue
        subjects = words.numbered(lists[kind], round(b.count * share * 0.78))
        skip = round(b.count * 0.03) if kind == "shop" else 0  # the products of the look-alikes below
        for subject in subjects[skip:]:
            small = 0.35 if kind in ("journal", "shop") else 1.0
            page = b.page(kind, subject, f"/{kind}/{slug(subject)}/")
            page["demand"] *= small
            b.asks(page, kind, subject)
            b.unit += 1


def _look_alikes(b: Builder) -> None:
    """A guide and a product with the same head query but different intents, which must never be merged."""
    guides = {page["subject"]: page for page in b.pages if page["kind"] == "kit" and page["path"].count("/") == 3}
    for item in list(guides)[: round(b.count * 0.03)]:
        guide = guides[item]
        guide.update(case="look_alike", position=float(b.rng.uniform(1.8, 3.2)))
        for row in b.queries[guide["page"]]:
            row["position"] = row["mended_position"] = guide["position"] * float(np.exp(b.rng.normal(0, 0.16)))
        page = b.page("shop", item, f"/shop/{slug(item)}/", case="look_alike", unit=guide["unit"])
        b.asks(page, "shop", item)
        b.asks(
            page,
            "kit",
            item,
            demand=guide["demand"],
            position=float(b.rng.uniform(4.0, 6.5)),
            pull=0.9,
            only=slice(0, 2),
            role="shared",
            rare=0.02,
        )
        wanted = {row["query"]: row["demand"] for row in b.queries[guide["page"]]}
        for row in (row for row in b.queries[page["page"]] if row["role"] == "shared" and row["query"]):
            row.update(demand=wanted[row["query"]], season=guide["season"])  # the same searches


def _fading_subject(b: Builder) -> None:
    """A subject that is searched less and less; none of its pages has decayed."""
    for item in words.INFLATABLES[: max(4, round(b.count * 0.028))]:
        page = b.page("kit", item, f"/kit/{slug(item)}/", trend="fading", case="demand_decline", season="level")
        b.asks(page, "kit", item, demand=page["demand"] * 1.5)
        b.unit += 1


def _duplicates(b: Builder) -> None:
    """Two or three pages that answer the same queries with the same intent and alternate in the results."""
    guides = [
        page for page in b.pages if page["kind"] in ("rivers", "technique") and page["case"] == "healthy" and page["path"].count("/") == 3
    ]
    for index in b.rng.permutation(len(guides))[: round(b.count * 0.034)]:
        first = guides[index]
        extra = 2 if b.rng.random() < 0.25 else 1
        alone = float(b.rng.uniform(2.0, 3.6))
        b.queries[first["page"]].clear()
        first.update(
            case="duplicate_survivor",
            also_right="refresh",
            backlinks=int(b.rng.integers(4, 12)),
            demand=first["demand"] * 1.9,
            leads=0.62 if extra == 1 else 0.48,
            position=alone,
        )
        b.asks(first, first["kind"], first["subject"], position=alone)
        for turn in range(extra):
            ending = ("guide", "explained", "revisited")[turn]
            page = b.page(
                "journal" if turn else first["kind"],
                first["subject"],
                f"/{'journal' if turn else first['kind']}/{slug(first['subject'])}-{ending}/",
                title=first["title"].replace(" | ", f", {ending} | "),
                headings=first["headings"],
                unit=first["unit"],
                season=first["season"],
                demand=first["demand"],
                backlinks=0,
                leads=0.38 if extra == 1 else 0.26,
                position=alone * 1.1,
                case="duplicate",
                verdict="consolidate",
                cause="duplicate",
                target_path=first["path"],
            )
            shown = [
                dict(row, page=page["page"], position=row["position"] * float(np.exp(b.rng.normal(0.08, 0.05))))
                for row in b.queries[first["page"]]
            ]
            b.queries[page["page"]].extend(shown)


def _dead(b: Builder) -> None:
    covered = [
        page for page in b.pages if page["kind"] in ("rivers", "lakes") and page["case"] == "healthy" and page["path"].count("/") == 3
    ]
    odd = [
        "boat shed moved",
        "spring meeting",
        "new van",
        "raffle winners",
        "staff picnic",
        "website changes",
        "old price list",
        "quiz answers",
        "photo contest",
        "radio interview",
        "club night",
        "thank you all",
        "summer hours",
        "lost property",
        "trade fair stand",
        "team photo",
    ]

    def plant(case: str, share: float, verdict: str, cause: str, **given: Any) -> None:
        for _ in range(max(2, round(b.count * share))):
            cover = covered[int(b.rng.integers(len(covered)))]
            number = len(b.pages)
            about = case == "dead_covered"
            subject = cover["subject"] if about else f"{odd[number % len(odd)]} {2016 + number % 9}"
            kind = "shop" if case == "dead_selling" else "journal"
            if case == "dead_selling":
                subject = "gift set"
            page = b.page(
                kind,
                subject,
                f"/{kind}/{slug(subject)}-{'diary-' if about else ''}{number}/",
                case=case,
                verdict=verdict,
                cause=cause,
                target_path=cover["path"] if about else "",
                inlinks=int(b.rng.integers(0, 4)),
                outlinks=2,
                demand=0.06,
                position=24.0,
                headings="The weekend|Trip report",
                **{"backlinks": 0, "other_sessions": 0.004, **given},
            )
            page["title"] = f"{subject}: a paddling diary | Tarnbrook" if kind == "journal" else page["title"]
            if about:
                b.asks(page, kind, subject, demand=0.5, position=30.0)
            elif case == "dead_alone" and number % 2:
                b.asks(page, kind, subject, demand=0.15, position=22.0)
            b.unit += 1

    plant("dead_covered", 0.045, "prune", "dead")
    plant("dead_alone", 0.035, "prune", "dead")
    plant("dead_selling", 0.015, "keep", "", other_sessions=0.5, conversion=0.06)
    plant("dead_linked", 0.015, "keep", "", backlinks=6)


def _cases(b: Builder) -> None:
    free = {page["page"]: page for page in b.pages if page["case"] == "healthy" and page["path"].count("/") == 3 and page["kind"] != "help"}
    demand_of = {
        "climb": 2.6,
        "badly_titled": 1.5,
        "retitled": 1.6,
        "poor_engagement": 1.4,
        "decayed": 1.3,
        "seasonal": 1.3,
        "noindex": 1.3,
    }
    for case, (per_mille, kinds) in CASES.items():
        eligible = [number for number, page in free.items() if page["kind"] in kinds]
        for number in b.rng.permutation(eligible)[: max(2, round(b.count * per_mille / 1000))]:
            page = free.pop(int(number))
            verdict, cause = VERDICT_OF.get(case, ("keep", ""))
            page.update(case=case, verdict=verdict, cause=cause)
            factor, sink_from = demand_of.get(case, 1.0), (LAST_COMPLETE_DAY - FIRST_DAY).days
            shift = 1.0
            if case == "decayed":
                page.update(onset=sink_from - int(b.rng.integers(75, 200)), sink=float(b.rng.uniform(2.3, 3.6)) ** b.level.effect)
            elif case == "climb":
                shift = float(b.rng.uniform(8.0, 12.5)) / page["position"]
            elif case == "badly_titled":
                page.update(pull=float(b.rng.uniform(0.28, 0.42)) ** b.level.effect, title=f"Page {number} | Tarnbrook", description="")
            elif case == "retitled":  # a new title from one day on, with a lower CTR at the same position
                onset = sink_from - int(b.rng.integers(95, 180))
                page.update(
                    title_before=page["title"],
                    description_before=page["description"],
                    onset=onset,
                    fade=float(b.rng.uniform(0.25, 0.4)) ** b.level.effect,
                    title=f"{page['kind'].title()} | Tarnbrook",
                    description="",
                )
            elif case == "poor_engagement":
                page.update(engaged=page["engaged"] * float(b.rng.uniform(0.35, 0.5)) ** b.level.effect)
            elif case == "new":
                age = timedelta(days=int(b.rng.integers(20, 165)))
                page.update(published=LAST_COMPLETE_DAY - age, undated=number % 3 == 2)
            elif case == "seasonal":
                page.update(season="deep_winter")
            elif case == "noindex":
                page.update(noindex=True, repair="noindex", onset=sink_from - int(b.rng.integers(30, 60)))
            elif case == "broken":
                page.update(status=404 if number % 4 else 410, repair="restore", onset=sink_from - int(b.rng.integers(20, 45)))
            elif case == "moved":
                page.update(
                    status=301,
                    onset=sink_from - int(b.rng.integers(30, 60)),
                    redirect_path=f"/{page['kind']}/{slug(page['subject'])}-water/",
                    repair="redirected",
                )
                _moved_to(b, page)
            for row in b.queries[page["page"]]:
                row.update(
                    demand=row["demand"] * factor,
                    position=max(1.02, row["position"] * shift),
                    mended_position=row["position"],
                    season=page["season"],
                )
            if case == "off_topic":
                topic = words.numbered(words.OFF_TOPIC, 400)[int(b.rng.integers(len(words.OFF_TOPIC)))]
                place = page["subject"].split()[-1]
                _strays(b, page, "off", f"{topic} {place}".strip(), demand=b.rng.uniform(22, 60), position=b.rng.uniform(6.5, 10.5))


def _strays(b: Builder, page: dict[str, Any], kind: str, subject: str, *, demand: float, position: float) -> None:
    """Show the page for queries that it does not answer; a new page for them would have the position of good pages."""
    mended = (usual_place(b.later), 1.0)
    b.asks(page, kind, subject, demand=float(demand), position=float(position), pull=0.4, role="stray", rare=0.1, mended=mended)


def _faults(b: Builder) -> None:
    """Faults that affect no verdict: pages to which no page links, and redirects in two steps."""
    healthy = [page for page in b.pages if page["case"] == "healthy" and page["kind"] in GUIDES]
    for number in b.rng.permutation(len(healthy))[: max(2, round(b.count * 0.012))]:
        healthy[number].update(inlinks=0)
    for page in [page for page in b.pages if page["case"] == "moved"][::2]:
        between = f"/old{page['path']}"
        step = b.page(page["kind"], page["subject"], between, case="moved_step", verdict="", status=301, inlinks=1, backlinks=0)
        step.update(redirect_path=page["redirect_path"], published=page["published"])
        page.update(redirect_path=between, repair="chain")
    for page in b.pages:
        crawled = not (page["case"] == "dead_alone" and page["page"] % 4 == 0)
        if page["inlinks"] == 0 and page["status"] == 200 and not page["noindex"] and crawled:
            page["repair"] = "orphan"
        if page["repair"] in ("redirected", "chain"):
            last = next((other["redirect_path"] for other in b.pages if other["path"] == page["redirect_path"]), "")
            page["repair_path"] = last or page["redirect_path"]


def _overshadowed(b: Builder) -> None:
    """Guides for whose queries the page of their section is shown, although it does not answer them."""
    free = [page for page in b.pages if page["case"] == "healthy" and page["kind"] in GUIDES and page["path"].count("/") == 3]
    hubs = {page["kind"]: page for page in b.pages if page["case"] == "hub"}
    for number in b.later.permutation(len(free))[: max(2, round(b.count * 0.008))]:
        page, hub = free[number], hubs[free[number]["kind"]]
        page.update(case="overshadowed", repair="theme")
        for row in [row for row in b.queries[page["page"]] if row["query"]]:
            taken = dict(row, page=hub["page"], demand=row["demand"] * 0.72, position=row["position"] * 1.1, role="taken", pull=0.8)
            row.update(demand=row["demand"] * 0.28, position=row["position"] * 1.2)
            b.add(taken)


def _abroad(b: Builder) -> None:
    """Guides that are also shown for queries in other languages; a translation would answer them."""
    free = [page for page in b.pages if page["case"] == "healthy" and page["kind"] in ("rivers", "lakes") and page["path"].count("/") == 3]
    languages = list(words.ABROAD)
    for turn, number in enumerate(b.later.permutation(len(free))[: max(3, round(b.count * 0.01))]):
        page = free[number]
        page.update(case="abroad", verdict="expand", cause="strays")
        demand, position = b.later.uniform(30, 60), b.later.uniform(6.5, 9.5)
        _strays(b, page, languages[turn % len(languages)], page["subject"], demand=demand, position=position)


def _events(b: Builder) -> None:
    """Reports of a regatta that was searched only while it lasted, a year before the end; they have no fault."""
    free = [page for page in b.pages if page["case"] == "healthy" and page["kind"] == "journal" and page["path"].count("/") == 3]
    for number in b.later.permutation(len(free))[: max(2, round(b.count * 0.006))]:
        page = free[number]
        page.update(case="event", trend="event", season="level")
        for row in b.queries[page["page"]]:
            row.update(trend="event", season="level", demand=row["demand"] * 2.0)


def _closed(b: Builder) -> None:
    """Guides that a new rule of robots.txt blocks, and others that are absent from the sitemap."""
    free = [page for page in b.pages if page["case"] == "healthy" and page["kind"] in GUIDES and page["path"].count("/") == 3]
    free = [page for page in free if not page["repair"]]
    number, each = b.later.permutation(len(free)), max(2, round(b.count * 0.006))
    for place in number[:each]:
        since = (LAST_COMPLETE_DAY - FIRST_DAY).days - int(b.later.integers(30, 60))
        free[place].update(case="closed", repair="robots", onset=since)
    for place in number[each : 2 * each]:
        free[place].update(case="unlisted", repair="sitemap")
    for page in [page for page in b.pages if page["case"] == "moved_step"]:
        page.update(repair="sitemap", repair_path=page["redirect_path"])


def _moved_to(b: Builder, old: dict[str, Any]) -> None:
    page = b.page(
        old["kind"],
        old["subject"],
        old["redirect_path"],
        unit=old["unit"],
        case="moved_to",
        published=old["published"],
        season=old["season"],
        onset=-old["onset"],
    )
    b.queries[page["page"]] = [dict(row, page=page["page"]) for row in b.queries[old["page"]]]
