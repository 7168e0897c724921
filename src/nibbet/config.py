"""nibbet.toml: every setting with its default, checked when it is read."""

from __future__ import annotations

import re
import tomllib
from datetime import date
from pathlib import Path
from typing import Annotated, Any, Literal, get_args
from urllib.parse import urlsplit

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, ValidationError, field_validator, model_validator

from nibbet.errors import ConfigError

Kind = Literal["search", "landings", "crawl", "links", "backlinks", "results", "demand", "editorial", "hits", "sitemap", "robots"]
KINDS: tuple[str, ...] = get_args(Kind)


def _as_list(value: object) -> object:
    return [value] if isinstance(value, str) else value


Texts = Annotated[list[str], BeforeValidator(_as_list)]


class Section(BaseModel):
    """A table of nibbet.toml: no unknown keys, no change after reading."""

    model_config = ConfigDict(extra="forbid", frozen=True)


class SiteSettings(Section):
    """[site]: whose pages these are."""

    home: str
    hosts: Texts = []
    old_hosts: Texts = []
    "Hosts on which the same paths lived before a move: their pages keep rows of their own, shown beside the new ones."
    brand: Texts = []
    as_of: date | None = None
    tracking: Texts = []
    "More names of parameters that never distinguish pages; `*` at the end stands for any ending."
    language: str = "english"
    "Whose word endings are folded when queries are compared with pages; a Snowball language name."

    @field_validator("home")
    @classmethod
    def _home(cls, value: str) -> str:
        if not urlsplit(value).hostname or urlsplit(value).scheme not in ("http", "https"):
            raise ValueError('must be a whole address, as "https://tarnbrook.example/"')
        return value


class SourceSettings(Section):
    """[[source]]: one kind of file, and the help that recognition needs."""

    kind: Kind
    files: Texts = []
    table: str | None = None
    columns: dict[str, str] = {}
    where: dict[str, str | Texts] = {}
    period: tuple[date, date] | None = None
    sheet: str | None = None
    dates: Literal["day first", "month first"] | None = None
    decimal: Literal[".", ","] | None = None
    currency: str | None = None
    "What its revenue is counted in, where that is not the currency of [value]; needs a rate there."

    @model_validator(mode="after")
    def _something(self) -> SourceSettings:
        if not self.files and self.table is None:
            raise ValueError('needs files = "..." or table = "..."')
        if self.period and self.period[0] > self.period[1]:
            raise ValueError("period must run from the earlier to the later day")
        return self


class WindowSettings(Section):
    """[windows]: the days that are compared."""

    recent: int = Field(90, ge=7, le=366)
    reference: Literal["year", "before"] | None = None
    "The days a year earlier, or the days just before; the default is the year where the data reach that far."
    long: int = Field(365, ge=30, le=1100)
    settled: int = Field(180, ge=0, le=1500)


class ProtectSettings(Section):
    """[protect]: pages that are never removed or merged away."""

    pages: Texts = []


class PurposeSettings(Section):
    """[purpose]: patterns of paths whose pages are not there for search, and are judged by their visits."""

    campaign: Texts = []
    support: Texts = []
    account: Texts = []


class GroupSettings(Section):
    """[groups]: named groups, whose sums and rates stand beside those of the site."""

    pages: dict[str, Texts] = {}
    "Name -> patterns of paths, in which * stands for anything."
    queries: dict[str, Texts] = {}
    "Name -> words or phrases, or re: and an expression of RE2."


class TopicSettings(Section):
    """[topics]: which queries are grouped."""

    most: int = Field(300_000, ge=100)
    "The most wanted queries are grouped, so many of them; the rest is counted aside."
    aside: Texts = []
    "Words, phrases or re: expressions of RE2: queries with them belong to no topic, and are counted."


class ValueSettings(Section):
    """[value]: what a conversion is worth."""

    conversion: float | None = Field(None, ge=0)
    currency: str = ""
    rates: dict[str, Annotated[float, Field(gt=0)]] = {}
    "What one unit of another currency is worth in `currency`."


class VerdictSettings(Section):
    """Thresholds of the verdicts; docs/verdicts.md gives the reason of each."""

    prune_clicks: int = Field(20, ge=0)
    prune_impressions: int = Field(600, ge=0)
    prune_sessions: int = Field(10, ge=0)
    prune_needs: Literal["both", "one", "none"] = "both"
    "Which of landings and backlinks must be given before a page is pruned: both tell of pages that are needed though search is not."
    hub_outlinks: int = Field(30, ge=1)
    hub_children: int = Field(3, ge=1)
    overlap: float = Field(0.55, gt=0, le=1)
    shared_queries: int = Field(3, ge=1)
    turn_taking: float = Field(0.12, ge=0, le=1)
    answers: float = Field(0.5, gt=0, lt=1)
    rival_share: float = Field(0.1, gt=0, lt=1)
    decay_share: float = Field(0.25, gt=0, lt=1)
    climb_position: tuple[float, float] = (5.5, 20.0)
    climb_share: float = Field(0.5, gt=0, le=1)
    snippet_pull: float = Field(0.7, gt=0, lt=1)
    engagement_share: float = Field(0.7, gt=0, lt=1)
    engagement_sessions: int = Field(50, ge=1)
    stray_impressions: int = Field(300, ge=1)
    real_change: float = Field(0.10, ge=0, lt=1)
    min_gain: float = Field(5.0, ge=0)
    "Extra clicks a month under which a refresh or an expansion is not worth an editor's day."


class EngineSettings(Section):
    """[engine]: what computes, and how much memory it may take."""

    backend: Annotated[str, Field(pattern=r"^(duckdb|duckdb://.+|pyspark)$")] = "duckdb"
    "duckdb, duckdb://FILE for a database of that engine whose tables are named, or pyspark."
    memory: str = "4GB"
    threads: int | None = Field(None, ge=1)


class LimitSettings(Section):
    """Bounds on compressed input, so that a small file cannot fill the disk."""

    expanded_bytes: int = Field(40_000_000_000, ge=1_000)
    expansion_ratio: float = Field(400.0, ge=1)


class Config(Section):
    """All settings of a workspace."""

    site: SiteSettings
    source: list[SourceSettings] = []
    windows: WindowSettings = WindowSettings()  # type: ignore[call-arg]
    protect: ProtectSettings = ProtectSettings()
    purpose: PurposeSettings = PurposeSettings()
    groups: GroupSettings = GroupSettings()
    topics: TopicSettings = TopicSettings()  # type: ignore[call-arg]
    value: ValueSettings = ValueSettings()  # type: ignore[call-arg]
    verdicts: VerdictSettings = VerdictSettings()  # type: ignore[call-arg]
    engine: EngineSettings = EngineSettings()  # type: ignore[call-arg]
    limits: LimitSettings = LimitSettings()  # type: ignore[call-arg]


def load_config(path: Path) -> Config:
    """The settings of `path`.

    Raises ConfigError, which names every fault with its line and the mend.
    """
    try:
        text = path.read_text("utf-8")
    except FileNotFoundError:
        raise ConfigError(f"{path}: there is no such file. Write one with: nibbet init {path.parent}") from None
    except (OSError, UnicodeDecodeError) as fault:
        raise ConfigError(f"{path}: cannot be read as UTF-8 text ({fault}). Save it as UTF-8.") from None
    try:
        given = tomllib.loads(text)
    except tomllib.TOMLDecodeError as fault:
        raise ConfigError(f"{path}: not valid TOML: {fault}. Mend that line.") from None
    return make_config(given, name=str(path), text=text)


def make_config(given: dict[str, Any], *, name: str = "settings", text: str = "") -> Config:
    """Settings from a plain dictionary in the shape of nibbet.toml; raises ConfigError."""
    try:
        return Config.model_validate(given)
    except ValidationError as faults:
        raise ConfigError("\n".join(_said(fault, name, text) for fault in faults.errors())) from None


def _said(fault: Any, name: str, text: str) -> str:
    place = [part for part in fault["loc"] if part != "function-after[_something(), SourceSettings]"]
    line = _line_of(place, text)
    where = f"{name}, line {line}" if line else name
    key = ".".join(str(part) for part in place)
    if fault["type"] == "extra_forbidden":
        return f"{where}: unknown key {key}. {_nearest(place)}"
    if fault["type"] == "missing":
        return f'{where}: {key} is missing. Add it, for example: [site] home = "https://tarnbrook.example/"'
    return f"{where}: {key} = {fault['input']!r} is not usable: {fault['msg'].removeprefix('Value error, ')}."


def _nearest(place: list[Any]) -> str:
    import difflib

    model: Any = Config
    for part in place[:-1]:
        if isinstance(part, str):
            kind = model.model_fields[part].annotation
            model = next((arg for arg in getattr(kind, "__args__", ()) if isinstance(arg, type)), kind)
    names = list(getattr(model, "model_fields", {}))
    close = difflib.get_close_matches(str(place[-1]), names, 1)
    return f"Did you mean {close[0]}?" if close else f"Known here: {', '.join(names)}."


def _line_of(place: list[Any], text: str) -> int | None:
    """The line of a key: inside its table when that can be told, counted from 1."""
    if not text or not place:
        return None
    lines, table = text.splitlines(), [part for part in place[:-1] if isinstance(part, str)]
    nth = next((part for part in place if isinstance(part, int)), 0)
    key = next((part for part in reversed(place) if isinstance(part, str)), "")
    start, seen = 0, -1
    for number, line in enumerate(lines):
        if table and re.match(rf"\s*\[+\s*{re.escape(table[0])}\b", line):
            seen += 1
            start = number
            if seen == nth:
                break
    pattern = re.compile(rf"\s*(\[+\s*)?{re.escape(key)}\b")
    return next((n + 1 for n in range(start, len(lines)) if pattern.match(lines[n])), start + 1 if table else None)
