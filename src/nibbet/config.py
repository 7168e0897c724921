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
    "Address of the home page."
    hosts: Texts = []
    "Other hosts that serve the same pages."
    more_hosts: Texts = []
    "Hosts of the site with pages of their own, such as a shop or a language."
    old_hosts: Texts = []
    "Former hosts of the site: their pages keep their own rows, shown with those of the pages they redirect to, or of the same paths."
    brand: Texts = []
    'Names by which people search for you: whole words, joined, spaced or hyphenated; from six letters also with one typing error, unless written `"=name"`.'
    as_of: date | None = None
    "The last day to count; defaults to the last complete day of the search rows."
    tracking: Texts = []
    "Additional parameters that never distinguish pages; `*` at the end matches any ending."
    surfaces: Texts = []
    "The surfaces that count toward pages, as named in your rows; the others are shown in splits only. Defaults to web search where rows name it, else all."
    search_agents: Texts = []
    "User agents of the search engines that matter to you: a page that robots.txt, or a noindex by name, blocks for one of them counts as blocked. Defaults to what is blocked for all."
    language: str = "english"
    "The language whose word endings are ignored when queries are compared with pages; a Snowball language name."

    @field_validator("home")
    @classmethod
    def _home(cls, value: str) -> str:
        if not urlsplit(value).hostname or urlsplit(value).scheme not in ("http", "https"):
            raise ValueError('must be a whole address, as "https://tarnbrook.example/"')
        return value


class SourceSettings(Section):
    """[[source]]: one kind of file, and hints for its recognition."""

    kind: Kind
    "The kind of the files: see How exports are read."
    files: Texts = []
    "A path, a pattern or a list of them."
    table: str | None = None
    "Instead of files: a table in the engine."
    columns: dict[str, str] = {}
    "Column = header, for columns that are not recognised."
    where: dict[str, str | Texts] = {}
    "Use only rows with these values, in which * matches anything; the others are set aside and counted."
    period: Annotated[tuple[Days, ...], BeforeValidator(_as_periods)] = ()
    "The first and last day of an undated export; a list of such pairs for windows side by side, from left to right."
    constant: dict[str, str] = {}
    'Values common to all rows that the file does not contain, such as page = "/a/", channel = "organic" or device = "mobile".'
    organic: Texts = []
    "For landings: the channels or media, as named in your rows, that are unpaid search; recognised by their words by default."
    reverse: Texts = []
    "Flags (noindex, protected, ...) whose plain yes means the opposite of their header."
    sheet: str | None = None
    "The sheet of a workbook, or the member of an archive."
    dates: Literal["day first", "month first"] | None = None
    "The order of day and month, if all dates are ambiguous."
    decimal: Literal[".", ","] | None = None
    "The decimal mark; recognised from all values by default."
    currency: str | None = None
    "The currency of its revenue, if different from that of [value]; needs a rate there."

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
    "Days up to the last complete one that are judged: long enough for rates, short enough to be current. Defaults to 90, or half of a shorter history."
    reference: Literal["year", "before"] | None = None
    "The same days a year earlier, or the preceding days; defaults to a year earlier where the data go back that far."
    long: int = Field(365, ge=30, le=1100)
    "Days over which a page must have earned nothing to be pruned: a whole year, so that no season is missed."
    counted_since: date | None = None
    "The first day since which impressions are counted as in the newest rows; found in the data. The first day of the data means always."
    settled: int = Field(180, ge=0, le=1500)
    "Days after which a page has found its position; younger ones are watched."


class ProtectSettings(Section):
    """[protect]: pages that are never removed or merged away."""

    pages: Texts = []
    "Paths or addresses that are never removed or merged away; `*` matches anything, with or without a trailing slash."
    notices: bool = True
    "Legal notices, by their address or title (privacy, terms, imprint and the like in many languages), are not removed or merged away either: the law asks for them, not searchers."


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
    "Name -> patterns of paths, in which * matches anything."
    queries: dict[str, Texts] = {}
    "Name -> words or phrases, or re: and an RE2 expression."


class QuerySettings(Section):
    """[queries]: queries that are not searches; they count for their pages, but have no role, opening or topic."""

    junk: Texts = []
    "Words, phrases or re: expressions of RE2: queries with them are not searches, like typed addresses, e-mail addresses, long numbers and operators."
    kept: Texts = []
    "The same for queries that are searches although they do not look like it: part numbers, names with a dot."


class TopicSettings(Section):
    """[topics]: which queries are grouped."""

    most: int = Field(300_000, ge=100)
    "The number of most wanted queries that are grouped; the others are counted separately."
    aside: Texts = []
    "Words, phrases or re: expressions of RE2: queries with them belong to no topic; they are counted separately."
    translate: bool = True
    "Whether queries in other languages than the site's make topics to translate; otherwise they are counted separately."


class AboutSettings(Section):
    """[about]: facts about the business. They mark topics as fit or unfit and are included in packs and briefs; they are sent nowhere."""

    notes: str = ""
    "A Markdown file with the same facts under headings: what we sell, for whom, rivals, tone, not wanted."
    sells: Texts = []
    "Products and services: a topic with most of the distinctive words of one of these is fit."
    audience: Texts = []
    "The audience."
    rivals: Texts = []
    "Names of rivals: topics that contain one are unclear."
    tone: Texts = []
    "How texts should sound."
    unwanted: Texts = []
    "Words or phrases for which the site does not want to be found: such queries are no openings, and their topics are unfit."


class ValueSettings(Section):
    """[value]: the value of a conversion."""

    conversion: float | None = Field(None, ge=0)
    "The value of one conversion."
    currency: str = ""
    "The currency of values and revenue."
    rates: dict[str, Annotated[float, Field(gt=0)]] = {}
    "The value of one unit of another currency in `currency`."


class EngineSettings(Section):
    """[engine]: the engine and its memory limit."""

    backend: Annotated[str, Field(pattern=r"^(duckdb|duckdb://.+|pyspark)$")] = "duckdb"
    "duckdb, duckdb://FILE for a database whose tables are named, or pyspark."
    memory: str = "4GB"
    "Memory limit of the engine; it spills to disk beyond that."
    threads: int | None = Field(None, ge=1)
    "Threads of the engine; defaults to all."


class LimitSettings(Section):
    """[limits]: limits on compressed input, so that a small file cannot fill the disk."""

    expanded_bytes: int = Field(40_000_000_000, ge=1_000)
    "Largest size of an unpacked file in bytes."
    expansion_ratio: float = Field(400.0, ge=1)
    "Largest ratio of unpacked to compressed size."


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
        raise ConfigError("\n".join(_message(fault, name, text) for fault in faults.errors())) from None


def _message(fault: Any, name: str, text: str) -> str:
    """The message of a fault of validation: where, what, and the mend."""
    place = [part for part in fault["loc"] if part != "function-after[_something(), SourceSettings]"]
    line = _line_of(place, text)
    where = f"{name}, line {line}" if line else name
    key = ".".join(str(part) for part in place)
    if fault["type"] == "extra_forbidden":
        return f"{where}: unknown key {key}. {_nearest(place)}"
    if fault["type"] == "missing":
        return f'{where}: {key} is missing. Add it, for example: [site] home = "https://tarnbrook.example/"'
    if fault["type"].startswith("bool_"):
        return f"{where}: {key} = {fault['input']!r} is not usable: write true or false, without quotes."
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
