"""Builds an invented site: its pages, its queries, and the case planted on each page."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass, field
from datetime import date, timedelta
from typing import Any

import numpy as np
import pandas as pd

from nibbet.demo import vocabulary as words

FIRST_DAY = date(2025, 7, 1)
LAST_COMPLETE_DAY = date(2026, 10, 31)
PARTIAL_DAYS = 3
#: share of each kind of page in the site; pages in a thousand with each planted case
KINDS = {
    "rivers": 0.29,
    "lakes": 0.15,
    "technique": 0.14,
    "kit": 0.13,
    "shop": 0.11,
    "hire": 0.05,
    "courses": 0.04,
    "journal": 0.05,
    "help": 0.03,
}
GUIDES = ("rivers", "lakes", "technique", "kit")
CASES = {
    "decayed": (55, GUIDES),
    "climb": (55, GUIDES),
    "badly_titled": (42, GUIDES),
    "retitled": (16, GUIDES),
    "poor_engagement": (32, GUIDES),
    "off_topic": (36, GUIDES),
    "new": (40, (*GUIDES, "shop", "journal")),
    "seasonal": (25, ("courses", "kit", "hire", "technique")),
    "noindex": (13, GUIDES),
    "broken": (20, ("rivers", "lakes", "technique")),
    "moved": (10, ("rivers", "lakes")),
}
VERDICT_OF = {
    "decayed": ("refresh", "decay"),
    "climb": ("refresh", "climb"),
    "badly_titled": ("refresh", "snippet"),
    "retitled": ("refresh", "snippet"),
    "poor_engagement": ("refresh", "engagement"),
    "off_topic": ("expand", "strays"),
    "new": ("watch", "young"),
    "broken": ("", ""),
    "moved": ("", ""),
}


@dataclass(frozen=True)
class Level:
    """How hard a world is to judge: search volume, strength of the planted cases (an exponent of their factors), random variation."""

    volume: float = 1.0
    effect: float = 1.0
    noise: float = 1.0


LEVELS = {"easy": Level(), "usual": Level(0.75, 0.85, 1.4), "hard": Level(0.4, 0.6, 2.2)}


@dataclass
class World:
    """pages: one row per page; pairs: one row per (page, query) with the latent figures. Both have a fixed order."""

    pages: pd.DataFrame
    pairs: pd.DataFrame
    seed: int
    level: Level = LEVELS["easy"]
    brand: list[str] = field(default_factory=lambda: ["tarnbrook", "tarn brook"])


def usual_place(rng: np.random.Generator) -> float:
    """The position of a page of this site without a fault."""
    return float(np.clip(np.exp(rng.normal(0.85, 0.33)), 1.15, 4.6))


def slug(text: str) -> str:
    return "-".join(text.lower().split())


class Builder:
    """Collects pages and pairs. All random numbers come from one seeded generator."""

    def __init__(self, pages: int, seed: int, level: Level) -> None:
        self.level = level
        self.rng = np.random.default_rng(seed)
        self.later = np.random.default_rng([seed, 3])
        self.count = pages
        self.pages: list[dict[str, Any]] = []
        self.queries: defaultdict[int, list[dict[str, Any]]] = defaultdict(list)
        self.unit = 0

    def page(self, kind: str, subject: str, path: str, **given: Any) -> dict[str, Any]:
        rng, name = self.rng, subject[0].upper() + subject[1:]
        age = int(rng.integers(260, 2400))
        page = {
            "page": len(self.pages),
            "kind": kind,
            "subject": subject,
            "path": path,
            "unit": self.unit,
            "title": words.TITLES.get(kind, "{}").format(name) + " | Tarnbrook",
            "h1": name,
            "headings": words.HEADINGS.get(kind, ""),
            "description": f"{name}, told by people who paddle.",
            "title_before": "",
            "description_before": "",
            "words": int(rng.integers(350, 2400)),
            "status": 200,
            "redirect_path": "",
            "noindex": False,
            "published": LAST_COMPLETE_DAY - timedelta(days=age),
            "undated": False,
            "inlinks": int(rng.integers(3, 25)),
            "outlinks": int(rng.integers(3, 14)),
            "backlinks": int(rng.poisson(0.25)),
            "protected": False,
            "conversion": {"shop": 0.02, "hire": 0.03, "courses": 0.03}.get(kind, 0.0015),
            "basket": {"shop": 60.0, "hire": 45.0, "courses": 120.0}.get(kind, 20.0),
            "engaged": {"rivers": 0.66, "lakes": 0.64, "technique": 0.61, "kit": 0.58, "shop": 0.5}.get(kind, 0.55)
            * float(np.exp(rng.normal(0, 0.06))),
            "pull": float(np.exp(rng.normal(0, 0.10) * self.level.noise)),
            "position": usual_place(rng),
            "demand": float(np.exp(rng.normal(2.9, 0.55))) * self.level.volume,
            "season": kind,
            "trend": "level",
            "other_sessions": 0.25,
            "onset": -1,
            "sink": 1.0,
            "fade": 1.0,
            "leads": 1.0,
            "mended_pull": 0.0,
            "case": "healthy",
            "verdict": "keep",
            "also_right": "",
            "cause": "",
            "target_path": "",
            "repair": "",
            "repair_path": "",
        }
        page.update(given)
        page["mended_pull"] = page["pull"]
        self.pages.append(page)
        return page

    def add(self, row: dict[str, Any]) -> None:
        """Add one query for which a page is shown."""
        self.queries[row["page"]].append(row)

    def asks(
        self,
        page: dict[str, Any],
        kind: str,
        subject: str,
        *,
        demand: float | None = None,
        position: float | None = None,
        pull: float = 1.0,
        only: slice = slice(None),
        brand: bool = False,
        role: str = "own",
        rare: float = 0.22,
        mended: tuple[float, float] | None = None,
    ) -> None:
        """Show the page for the queries about `subject`, and for rare queries that exports never name.

        mended: position and pull once the planted fault of the page is repaired; as they are where there is none.
        """
        templates = (words.ASK.get(kind) or words.ABROAD[kind]).split("|")[only]
        volume, place = demand or page["demand"], position or page["position"]
        share = 1.0 / np.arange(1, len(templates) + 1) ** 1.15
        share /= share.sum()
        spread = np.exp(self.rng.normal(0, 0.16, len(templates)))
        rows = [
            (template.format(subject), volume * part, max(1.02, place * wide))
            for template, part, wide in zip(templates, share, spread, strict=True)
        ]
        rows.append(("", volume * rare, place * 1.15))
        for query, searches, where in rows:
            self.add(
                {
                    "page": page["page"],
                    "unit": page["unit"],
                    "query": query,
                    "demand": searches,
                    "position": where,
                    "pull": pull,
                    "mended_position": where * (mended[0] / place if mended else 1.0),
                    "mended_pull": mended[1] if mended else pull,
                    "brand": brand,
                    "role": role,
                    "season": page["season"],
                    "trend": page["trend"],
                }
            )
