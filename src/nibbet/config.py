"""nibbet.toml: every setting with its default, validated when it is read."""

from __future__ import annotations

import re
import tomllib
from datetime import date
from pathlib import Path
from typing import Annotated, Any, Literal, get_args
from urllib.parse import urlsplit

from pydantic import AfterValidator, BaseModel, BeforeValidator, Field, ValidationError, field_validator, model_validator

from nibbet.core.thresholds import STRICT, Thresholds
from nibbet.errors import ConfigError
from nibbet.kinds import TABLES

Kind = Literal[
    "search", "landings", "crawl", "links", "backlinks", "results", "demand", "editorial", "hits", "events", "vitals", "sitemap", "robots"
]
KINDS: tuple[str, ...] = get_args(Kind)


def _as_list(value: object) -> object:
    return [value] if isinstance(value, str) else value


def _as_periods(value: object) -> object:
    """A single pair of days as a list of one."""
    is_pair = isinstance(value, (list, tuple)) and len(value) == 2 and not any(isinstance(day, (list, tuple)) for day in value)
    return [value] if is_pair else value


def _in_order(days: tuple[date, date]) -> tuple[date, date]:
    if days[0] > days[1]:
        raise ValueError(f"ends ({days[1]}) before it begins ({days[0]}); write the earlier day first")
    return days


Days = Annotated[tuple[date, date], AfterValidator(_in_order)]
#: bytes of the notes that are read
MOST_NOTES = 200_000
Texts = Annotated[list[str], BeforeValidator(_as_list)]


class Section(BaseModel):
    """A table of nibbet.toml: no unknown keys; immutable."""

    model_config = STRICT


class SiteSettings(Section):
    """[site]: the site."""

    home: str
    "The site's home address."
    hosts: Texts = []
    "Sibling hosts that serve the same pages."
    more_hosts: Texts = []
    "Hosts of the site with pages of their own, as a shop or a language on a host of its own has."
    old_hosts: Texts = []
    "Former hosts of the site: their pages keep their own rows, shown with those of the pages they redirect to, or of the same paths."
    brand: Texts = []
    'Names by which people ask for you: whole words, joined, spaced or hyphened; from six letters on also with one slip, unless written `"=name"`.'
    as_of: date | None = None
    "The last day to count; found from the search rows when left out."
    tracking: Texts = []
    "More names of parameters that never distinguish pages; `*` at the end stands for any ending."
    surfaces: Texts = []
    "The surfaces that count toward pages, as named in your rows; the others are shown in splits only. Defaults to web search where rows name it, else all."
    search_agents: Texts = []
    "User agents of the search engines that matter to you: what robots.txt, or a noindex by its name, closes to one of them counts as closed. When left out, what is closed to all."
    language: str = "english"
    "Whose word endings are folded when queries are compared with pages; a Snowball language name."

    @field_validator("home")
    @classmethod
    def _home(cls, value: str) -> str:
        if not urlsplit(value).hostname or urlsplit(value).scheme not in ("http", "https"):
            raise ValueError('must be a whole address, as "https://tarnbrook.example/"')
        return value


class SourceSettings(Section):
    """[[source]]: one kind of file, and hints for its recognition."""

    kind: Kind
    "What the files are: see How exports are read."
    files: Texts = []
    "A path, a pattern or a list of them."
    table: str | None = None
    "Instead of files: a table that the engine holds."
    columns: dict[str, str] = {}
    "Column = header, where recognition needs help."
    where: dict[str, str | Texts] = {}
    "Keep only rows with these values; the rest is set aside and counted."
    period: Annotated[tuple[Days, ...], BeforeValidator(_as_periods)] = ()
    "The first and last day that an undated export covers; a list of such pairs where windows stand side by side, from left to right."
    constant: dict[str, str] = {}
    'What all rows share and the file does not say, as page = "/a/", channel = "organic" or device = "mobile".'
    organic: Texts = []
    "Of landings: the channels or media, as your rows name them, that are unpaid search; told by their words when left out."
    reverse: Texts = []
    "Flags (noindex, protected, ...) whose bare yes means the opposite of what their header says."
    sheet: str | None = None
    "Which sheet of a workbook, or member of a packed file."
    dates: Literal["day first", "month first"] | None = None
    "How dates read, where all of them read both ways."
    decimal: Literal[".", ","] | None = None
    "The decimal sign; found from all values when left out."
    currency: str | None = None
    "What its revenue is counted in, where that is not the currency of [value]; needs a rate there."

    @model_validator(mode="after")
    def _something(self) -> SourceSettings:
        if not self.files and self.table is None:
            raise ValueError('needs files = "..." or table = "..."')
        known = [column.name for column in TABLES[self.kind]]
        if unknown := [name for name in self.constant if name not in known]:
            raise ValueError(f"constant names {', '.join(unknown)}, which {self.kind} does not have; it has: {', '.join(known)}")
        return self


class WindowSettings(Section):
    """[windows]: the compared days."""

    recent: int | None = Field(None, ge=7, le=366)
    "Days up to the last complete one that are judged: long enough for rates, short enough to be now. When left out 90, or half of a history that is shorter."
    reference: Literal["year", "before"] | None = None
    "The days a year earlier, or the days just before; the default is the year where the data reach that far."
    long: int = Field(365, ge=30, le=1100)
    "Days over which a page must have earned nothing to be pruned: a whole year, so that no season is missed."
    settled: int = Field(180, ge=0, le=1500)
    "Days after which a page has found its place; younger ones are watched."


class ProtectSettings(Section):
    """[protect]: pages that are never removed or merged away."""

    pages: Texts = []
    "Paths or addresses that are never removed or merged away; `*` stands for anything, with or without the slash at the end."


class PurposeSettings(Section):
    """[purpose]: patterns of paths of pages that do not exist for search and are judged by their visits."""

    campaign: Texts = []
    "Pages of campaigns."
    support: Texts = []
    "Pages that help customers."
    account: Texts = []
    "Pages of an account or a purchase."


class GroupSettings(Section):
    """[groups.pages] and [groups.queries]: named groups, whose sums and rates are compared with those of the site."""

    pages: dict[str, Texts] = {}
    "Name -> patterns of paths, in which * stands for anything."
    queries: dict[str, Texts] = {}
    "Name -> words or phrases, or re: and an expression of RE2."


class QuerySettings(Section):
    """[queries]: queries that are not searches; they count for their pages, but have no role, opening or topic."""

    junk: Texts = []
    "Words, phrases or re: expressions of RE2: queries with them are not searches, like typed addresses, e-mail addresses, long numbers and operators."
    kept: Texts = []
    "The same of queries that are searches, whatever they look like: part numbers, names with a dot."


class TopicSettings(Section):
    """[topics]: which queries are grouped."""

    most: int = Field(300_000, ge=100)
    "The most wanted queries are grouped, so many of them; the rest is counted aside."
    aside: Texts = []
    "Words, phrases or re: expressions of RE2: queries with them belong to no topic, and are counted."
    translate: bool = True
    "Whether queries in other languages than the site's make topics to translate; else they are counted aside."


class AboutSettings(Section):
    """[about]: facts about the business. They mark topics as fit or unfit and are included in packs and briefs; they are sent nowhere."""

    notes: str = ""
    "A Markdown file whose headings say the same: what it sells, for whom, rivals, tone, not wanted."
    sells: Texts = []
    "What it sells or offers: a topic with most of the telling words of one of these is fit."
    audience: Texts = []
    "For whom."
    rivals: Texts = []
    "Names of rivals: topics that name one are unclear."
    tone: Texts = []
    "How texts should sound."
    unwanted: Texts = []
    "Words or phrases that it does not want to be found for: such queries open nothing, and their topics are unfit."


class ValueSettings(Section):
    """[value]: the value of a conversion."""

    conversion: float | None = Field(None, ge=0)
    "What one conversion is worth."
    currency: str = ""
    "The currency of values and revenue."
    rates: dict[str, Annotated[float, Field(gt=0)]] = {}
    "What one unit of another currency is worth in `currency`."


class EngineSettings(Section):
    """[engine]: the engine and its memory limit."""

    backend: Annotated[str, Field(pattern=r"^(duckdb|duckdb://.+|pyspark)$")] = "duckdb"
    "duckdb, duckdb://FILE for a database of that engine whose tables are named, or pyspark."
    memory: str = "4GB"
    "Memory the engine may take; beyond it spills to disk."
    threads: int | None = Field(None, ge=1)
    "Threads it may take; all when left out."


class LimitSettings(Section):
    """[limits]: limits on compressed input, so that a small file cannot fill the disk."""

    expanded_bytes: int = Field(40_000_000_000, ge=1_000)
    "Bytes to which a packed file may grow."
    expansion_ratio: float = Field(400.0, ge=1)
    "How many times its size it may grow to."


class Config(Section):
    """All settings of a workspace."""

    site: SiteSettings
    source: list[SourceSettings] = []
    windows: WindowSettings = WindowSettings()  # type: ignore[call-arg]
    protect: ProtectSettings = ProtectSettings()
    purpose: PurposeSettings = PurposeSettings()
    groups: GroupSettings = GroupSettings()
    queries: QuerySettings = QuerySettings()
    topics: TopicSettings = TopicSettings()  # type: ignore[call-arg]
    about: AboutSettings = AboutSettings()
    value: ValueSettings = ValueSettings()  # type: ignore[call-arg]
    verdicts: Thresholds = Thresholds()  # type: ignore[call-arg]
    engine: EngineSettings = EngineSettings()  # type: ignore[call-arg]
    limits: LimitSettings = LimitSettings()  # type: ignore[call-arg]


def load_config(path: Path) -> Config:
    """The settings of `path`.

    Raises ConfigError, which lists every fault with its line and the remedy.
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
    return with_notes(make_config(given, name=str(path), text=text), path.parent)


def with_notes(config: Config, root: Path) -> Config:
    """The settings including the notes of [about]; raises ConfigError where they cannot be read."""
    if not config.about.notes:
        return config
    from nibbet.core.business import read_notes

    path = root / config.about.notes
    try:
        sections = read_notes(path.read_bytes()[:MOST_NOTES].decode("utf-8-sig"))
    except (OSError, ValueError) as fault:
        raise ConfigError(
            f'[about] notes = "{config.about.notes}" cannot be read ({fault}). Name a text in UTF-8, or take the line out.'
        ) from None
    both = {part: list(dict.fromkeys([*getattr(config.about, part), *items])) for part, items in sections.items()}
    return config.model_copy(update={"about": config.about.model_copy(update=both)})


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
    """The line of a key, within its table if it can be determined, counted from 1."""
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
