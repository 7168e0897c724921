"""The one address behind all spellings of a page: what never distinguishes is folded, the rest is decided by evidence.

Parsing follows the WHATWG URL standard (ada). Folded without asking: scheme, host case, default port, punycode form,
sibling hosts and `www.`, dot segments, percent-encoding of unreserved characters and its case, fragments, tracking
parameters, the order of parameters, index file names. Decided by evidence: trailing slash, letter case of the path,
other parameters, print and mobile versions.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from functools import cached_property
from urllib.parse import urlsplit

import ada_url
import numpy as np
import pandas as pd

TRACKING = ("utm_*", "*clid")
#: parameters that always make another page: pagination and language
APART = frozenset("page p pg paged seite pagina offset start lang language locale hl sprache langue".split())
INDEX_FILE = r"/(?:index|default)\.(?:html?|php|aspx?|jsp|cgi)$"
ALTERNATE_PARAMETER = re.compile(r"^(?:print|amp|mobile)(?:=(?:1|true|yes)?)?$|^(?:view|format|version)=(?:print|amp|mobile)$")
SIMPLE = r"^(?:(https?)://([a-z0-9.-]+))?(/(?:[A-Za-z0-9_~-]+(?:\.[A-Za-z0-9_~-]+)*/?)*)?(?:\?([A-Za-z0-9_=&~.-]*))?(?:#.*)?$"
#: whose word counts first when several spellings of a page are known
AUTHORITY = ("crawl", "search", "editorial", "landings", "backlinks")
UNRESERVED = frozenset("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-._~")


@dataclass(frozen=True)
class Home:
    """The site: its home address, the sibling hosts that serve the same pages, and parameters that only track."""

    address: str
    hosts: tuple[str, ...] = ()
    tracking: tuple[str, ...] = ()

    @cached_property
    def host(self) -> str:
        return _bare_host(urlsplit(ada_url.normalize_url(self.address)).hostname or "")

    @cached_property
    def known(self) -> frozenset[str]:
        return frozenset({self.host, *(_bare_host(ada_url.idna_to_ascii(host.encode()).decode() if not host.isascii() else host.lower()) for host in self.hosts)})

    @cached_property
    def root(self) -> str:
        return f"{urlsplit(ada_url.normalize_url(self.address)).scheme}://{urlsplit(ada_url.normalize_url(self.address)).netloc.removeprefix('www.')}"

    @cached_property
    def tracks(self) -> re.Pattern[str]:
        names = [re.escape(name).replace(r"\*", "[^=]*") for name in (*TRACKING, *self.tracking)]
        return re.compile(rf"^(?:{'|'.join(names)})(?:=|$)", re.IGNORECASE)


@dataclass(frozen=True)
class Folded:
    """What folding gives.

    addresses: one row per (spelling met): spelling, page (the address; null when set aside), reason, sources.
    """

    addresses: pd.DataFrame
    hints: dict[str, int] = field(default_factory=dict)


def fold(spellings: pd.DataFrame, home: Home, crawl: pd.DataFrame | None = None) -> pd.DataFrame:
    """The page behind every spelling.

    Args:
        spellings: spelling (text as met), source (crawl, search, landings, ...); one row per pair.
        crawl: spelling, status (HTTP code), redirect_to, canonical (texts or null); evidence for the doubtful merges.
    Returns:
        One row per spelling, in order of page and spelling: spelling, page (whole address; null when it is none of this
        site's), reason (why it stands for that page, or why it is set aside), sources (sorted, joined by a blank).
    """
    known = spellings.drop_duplicates()
    sources = known.sort_values(["spelling", "source"]).groupby("spelling", sort=True)["source"].agg(" ".join)
    table = pd.DataFrame({"spelling": sources.index.astype("str"), "sources": sources.to_numpy()})
    table = pd.concat([table, parse(table["spelling"], home)], axis=1)
    ours = table["strict"].notna()
    evidence = _evidence(table[ours], home, crawl)
    merged = table[ours].merge(evidence, on="strict", how="left", validate="m:1")
    table.loc[ours, "page"] = (home.root + merged["final"]).to_numpy()
    table.loc[ours, "reason"] = np.where(merged["why"] == "", merged["reason"], (merged["reason"].replace("as it is", "") + " + " + merged["why"]).str.strip(" +"))
    table["page"] = table["page"].where(ours, None)
    table.loc[table["page"] == table["spelling"], "reason"] = "as it is"
    return table[["spelling", "page", "reason", "sources"]].sort_values(["page", "spelling"], na_position="last", ignore_index=True)


def parse(spellings: pd.Series, home: Home) -> pd.DataFrame:
    """Per spelling: strict (path and kept parameters; null when not of this site) and reason (what was folded, or why set aside)."""
    text = spellings.str.strip()
    parts = text.str.extract(SIMPLE)
    simple = (parts[1].notna() | parts[2].notna()) & ~text.str.startswith("//")
    host, path, query = parts[1].where(simple), parts[2].where(simple), parts[3].where(simple)
    rest = np.flatnonzero(~simple.to_numpy())
    if len(rest):
        slow = [_by_standard(value, home) for value in text.iloc[rest]]
        at = text.index[rest]
        host.loc[at], path.loc[at], query.loc[at] = ([row[n] for row in slow] for n in range(3))
    relative = simple & host.isna()
    host = host.fillna(home.host).where(path.notna() | host.notna())
    bare = host.str.removeprefix("www.")
    path = path.fillna("/").replace("", "/")
    folded_path = path.str.replace(INDEX_FILE, "/", regex=True, case=False)
    kept = query.fillna("").map({value: _kept(value, home) for value in query.dropna().unique()}).fillna("")
    strict = folded_path + np.where(kept == "", "", "?" + kept)
    bad = host.isna() | (host == "")
    foreign = ~bad & ~bare.isin(home.known)
    notes = [
        (text.str.startswith("http://") & home.root.startswith("https"), "scheme"), (relative, "relative"), (host.str.startswith("www.", na=False), "www"),
        (~foreign & ~bad & (bare != home.host), "sibling host"), (text.str.contains("#", regex=False), "fragment"), (path != folded_path, "index file"),
        (query.fillna("") != kept, "parameters"), (~simple & ~bad, "form"),
    ]
    reason = pd.Series("", index=text.index)
    for flag, word in notes:
        reason = reason + np.where(flag, " + " + word, "")
    reason = reason.str.removeprefix(" + ").replace("", "as it is")
    reason = reason.where(~foreign, "other host: " + bare.fillna("")).where(~bad, "not an address")
    return pd.DataFrame({"strict": strict.where(~bad & ~foreign, None), "reason": reason})


def _by_standard(text: str, home: Home) -> tuple[str | None, str | None, str | None]:
    """(host, path, query) of one spelling by the WHATWG standard; (None, None, None) when it is no address."""
    first = re.split(r"[/?#]", text, maxsplit=1)[0].lower()
    if "://" not in text and not text.startswith("/") and (_bare_host(first.split(":")[0]) in home.known or first.startswith("www.")):
        text = "https://" + text
    if not text or (" " in text and "/" not in text) or text.startswith("(") or text.casefold() in ("(other)", "other"):
        return None, None, None
    try:
        url = ada_url.URL(text, base=home.root + "/")
    except ValueError:
        return None, None, None
    if url.protocol not in ("http:", "https:"):
        return None, None, None
    return url.hostname, _decoded(url.pathname), _decoded(url.search[1:])


def _decoded(text: str) -> str:
    """Percent-encoding in its one form: unreserved characters bare, the rest with capital digits (RFC 3986, 6.2.2)."""
    def one(found: re.Match[str]) -> str:
        character = chr(int(found[1], 16))
        return character if character in UNRESERVED else found[0].upper()

    return re.sub(r"%([0-9A-Fa-f]{2})", one, text) if "%" in text else text


def _kept(query: str, home: Home) -> str:
    """The parameters that may distinguish, in one order."""
    return "&".join(sorted(part for part in query.split("&") if part and not home.tracks.match(part)))


def _bare_host(host: str) -> str:
    return host.lower().removeprefix("www.")


def weak_key(strict: pd.Series) -> pd.Series:
    """What the doubtful differences leave: path in small letters, without end slash, parameters, print and mobile marks."""
    cut = strict.str.partition("?")
    path = cut[0].str.lower().str.replace(r"^/(?:m|mobile|amp)/", "/", regex=True).str.replace(r"/(?:amp|print)/?$", "/", regex=True).str.rstrip("/")
    apart = cut[2].map({value: "&".join(p for p in value.split("&") if p.split("=")[0].lower() in APART) for value in cut[2].unique()})
    return path + np.where(apart == "", "", "?" + apart)


def _evidence(table: pd.DataFrame, home: Home, crawl: pd.DataFrame | None) -> pd.DataFrame:
    """Per strict address: final (the strict address of its page) and why ("" when nothing had to be decided)."""
    who = table.assign(source=table["sources"].str.split(" ")).explode("source")
    knows = pd.crosstab(who["strict"], who["source"]).astype(bool)
    nodes = pd.DataFrame({"strict": knows.index.astype("str")})
    nodes["weak"] = weak_key(nodes["strict"]).to_numpy()
    nodes["final"], nodes["why"] = nodes["strict"], ""
    nodes = nodes.set_index("strict", drop=False)
    shared = nodes["weak"].duplicated(keep=False)
    if crawl is not None and len(crawl):
        _follow_crawl(nodes, shared, table, home, crawl)
    open_ = nodes[shared & (nodes["final"] == nodes["strict"])]
    open_ = open_[open_["weak"].duplicated(keep=False)]
    if len(open_):
        _decide_by_sources(nodes, open_, knows)
    for _ in range(6):  # a merge into a spelling that was itself merged ends at the last one
        nodes["final"] = nodes["final"].map(nodes["final"])
    return nodes[["strict", "final", "why"]].reset_index(drop=True)


def _follow_crawl(nodes: pd.DataFrame, shared: pd.Series, table: pd.DataFrame, home: Home, crawl: pd.DataFrame) -> None:
    """Redirects and canonicals that lead to another spelling of the same page."""
    strict_of = table.drop_duplicates("spelling").set_index("spelling")["strict"]
    for column, word in (("redirect_to", "redirect"), ("canonical", "canonical")):
        rows = crawl[crawl[column].notna() & crawl["spelling"].isin(strict_of.index)]
        if rows.empty:
            continue
        start = rows["spelling"].map(strict_of)
        end = parse(rows[column].astype("str").reset_index(drop=True), home)["strict"]
        pairs = pd.DataFrame({"start": start.to_numpy(), "end": end.to_numpy()}).dropna().drop_duplicates("start")
        pairs = pairs[(pairs["start"] != pairs["end"]) & pairs["start"].isin(nodes.index) & pairs["end"].isin(nodes.index)]
        same = nodes.loc[pairs["start"], "weak"].to_numpy() == nodes.loc[pairs["end"], "weak"].to_numpy()
        pairs = pairs[same]
        pairs = pairs[(nodes.loc[pairs["start"], "final"] == pairs["start"].to_numpy()).to_numpy()]
        back = pairs["end"].map(nodes["final"]).to_numpy() == pairs["start"].to_numpy()  # two that point at each other decide nothing
        pairs = pairs[~back]
        nodes.loc[pairs["start"], "final"] = pairs["end"].to_numpy()
        nodes.loc[pairs["start"], "why"] = word


def _decide_by_sources(nodes: pd.DataFrame, open_: pd.DataFrame, knows: pd.DataFrame) -> None:
    """Spellings that no redirect decides: merged where the first source that knows any of them knows exactly one.

    A spelling with parameters of its own that search lists as a page stays apart.
    """
    left = open_.copy()
    plain = left["strict"].str.find("?") < 0
    for source in [name for name in AUTHORITY if name in knows.columns]:
        known = knows.loc[left.index, source]
        count = known.groupby(left["weak"]).transform("sum")
        one = left["weak"].map(left.loc[known & (count == 1)].set_index("weak")["strict"])
        merge = (count == 1) & ~known & (plain | ~(knows["search"].loc[left.index] if "search" in knows.columns else False))
        merge &= plain | ~one.fillna("").str.contains("?", regex=False)
        rows = left.index[merge]
        nodes.loc[rows, "final"] = one[merge].to_numpy()
        nodes.loc[rows, "why"] = f"only spelling in {source}"
        left = left[count == 0]
        plain = plain.loc[left.index]
        if left.empty:
            return
