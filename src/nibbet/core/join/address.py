"""The one address behind all spellings of a page: differences that never distinguish pages are normalised, the others are decided by
evidence.

Parsing follows the WHATWG URL standard (ada). Always normalised: scheme, host case, default port, punycode form,
hosts of the same site and `www.`, dot segments, percent-encoding of unreserved characters and its case, accents as separate characters,
fragments, tracking parameters, the order of parameters, index files. Decided by evidence: trailing slash, letter case of the path,
other parameters, print and mobile versions.
"""

from __future__ import annotations

import re
import unicodedata
from dataclasses import dataclass
from functools import cached_property
from typing import Any
from urllib.parse import quote, unquote, urlsplit

import ada_url
import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from nibbet.core.words import in_portions

Codes = NDArray[np.int64]

TRACKING = ("utm_*", "*clid")
#: parameters that always distinguish pages: pagination and language
APART = frozenset("page p pg paged seite pagina offset start lang language locale hl sprache langue".split())
#: parameters other than the mark of a print or mobile version alone
OWN_PARAMETERS = r"(?i)\?(?!(?:amp|print|mobile)(?:=(?:1|true|yes)?)?$)"
INDEX_FILE = r"(?i)/(?:index|default)\.(?:html?|php|aspx?|jsp|cgi)$"
#: spellings that the standard leaves unchanged: no capital or unusual letter in the host, no dot segment, nothing to encode
SIMPLE = r"^(?:https?://(?P<host>[a-z0-9]+(?:[.-][a-z0-9]+)*))?(?P<path>(?:/(?:[A-Za-z0-9_~%!$&()*+,;=:@-]+(?:\.[A-Za-z0-9_~%-]+)*)?)*)(?:\?(?P<query>[A-Za-z0-9_=&~.-]*))?(?:#.*)?$"
#: precedence of sources where several spellings of a page are known
AUTHORITY = ("crawl", "search", "sitemap", "editorial", "landings", "events", "vitals", "links", "backlinks", "hits", "misses", "robots")
NOT_AN_ADDRESS = "not an address"
#: sources that list pages; addresses with a parameter, and share of them listed without it, for it to distinguish no page; most such parameters
LISTING, LEAST_WITH, LISTED_WITHOUT, MOST_NAMES = ("crawl", "search", "sitemap", "editorial"), 3, 0.9, 50
#: spellings processed at once
AT_ONCE = 50_000
UNRESERVED = frozenset("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-._~")


@dataclass(frozen=True)
class Home:
    """The site: its home address, the hosts that serve the same pages, tracking parameters, former hosts, and hosts
    with pages of their own.
    """

    address: str
    hosts: tuple[str, ...] = ()
    tracking: tuple[str, ...] = ()
    old: tuple[str, ...] = ()
    more: tuple[str, ...] = ()

    @classmethod
    def of(cls, site: Any) -> Home:
        """The site from the settings: home, hosts, tracking, old_hosts, more_hosts."""
        return cls(site.home, tuple(site.hosts), tuple(site.tracking), tuple(site.old_hosts), tuple(site.more_hosts))

    @cached_property
    def host(self) -> str:
        """The host without `www.`."""
        return _bare_host(urlsplit(ada_url.normalize_url(self.address)).hostname or "")

    @cached_property
    def known(self) -> frozenset[str]:
        """All hosts of the site without `www.`, in their punycode form."""
        return frozenset({self.host, *map(_ascii_host, self.hosts)})

    @cached_property
    def moved(self) -> frozenset[str]:
        """The former hosts without `www.`."""
        return frozenset(map(_ascii_host, self.old)) - self.known

    @cached_property
    def apart(self) -> frozenset[str]:
        """The hosts with pages of their own, without `www.`: additional ones, and former ones."""
        return (frozenset(map(_ascii_host, self.more)) - self.known) | self.moved

    @property
    def every(self) -> frozenset[str]:
        """All hosts of the site, without `www.`."""
        return self.known | self.apart

    @cached_property
    def root(self) -> str:
        """Scheme and host before every address."""
        return f"{urlsplit(ada_url.normalize_url(self.address)).scheme}://{urlsplit(ada_url.normalize_url(self.address)).netloc.removeprefix('www.')}"

    @cached_property
    def tracks(self) -> re.Pattern[str]:
        """Prefixes of tracking parameters."""
        names = [re.escape(name).replace(r"\*", "[^=]*") for name in (*TRACKING, *self.tracking)]
        return re.compile(rf"^(?:{'|'.join(names)})(?:=|$)", re.IGNORECASE)


def hosts_of(texts: pd.Series) -> pd.Series:
    """The host of each address, in lower case and without `www.`; null where there is none."""
    address = texts.astype("str").str.lower()
    return address.str.extract(r"^(?:https?:)?(?://)?(?:[^/@?#]*@)?(?:www\.)?([^/:?#@]+)", expand=False)


def fold(spellings: pd.DataFrame, home: Home, crawl: pd.DataFrame | None = None) -> pd.DataFrame:
    """The page behind every spelling.

    Args:
        spellings: spelling (text as in the source), source (a name of AUTHORITY); one row per combination.
        crawl: spelling, redirect_to, canonical (texts or null), and status where known; the evidence for doubtful merges.
    Returns:
        One row per spelling, in order of page and spelling: spelling, page (absolute address; null if it is not of this
        site), reason (why it belongs to that page, or why it is set aside), sources (in the order of AUTHORITY, separated by blanks).
    """
    code, unique = pd.factorize(spellings["spelling"].astype("str"), sort=True)
    bits = np.zeros(len(unique), dtype=np.int64)
    np.bitwise_or.at(bits, code, spellings["source"].map({name: 1 << n for n, name in enumerate(AUTHORITY)}).to_numpy(dtype=np.int64))
    table = pd.DataFrame({"spelling": pd.Series(unique, dtype="str")})
    table = pd.concat([table, parse(table["spelling"], home)], axis=1)
    words = _words_among_addresses(table["spelling"], code, spellings["source"])
    table.loc[words, "strict"], table.loc[words, "reason"] = None, NOT_AN_ADDRESS
    ours = table["strict"].notna().to_numpy()
    node, strict = pd.factorize(table.loc[ours, "strict"], sort=True)
    known = np.zeros(len(strict), dtype=np.int64)
    np.bitwise_or.at(known, node, bits[ours])
    final, why = _evidence(pd.Series(strict, dtype="str"), known, _crawl_links(crawl, home))
    texts: Any = pa.array(strict, pa.string())
    moved = pc.starts_with(texts, "//")
    pages = pc.binary_join_element_wise(pc.if_else(moved, "https:", home.root), texts, "")
    rank = np.arange(len(pages))  # they are in order, except those of other hosts
    if pc.any(moved).as_py():
        rank[pc.sort_indices(pages).to_numpy()] = np.arange(len(pages))
    at, decided = np.full(len(table), -1), np.full(len(table), "", dtype=object)
    at[ours], decided[ours] = final[node], why[node]
    order = np.argsort(np.where(at < 0, len(pages), rank[at]) if len(pages) else at, kind="stable")  # spellings are in order
    page = pages.take(pa.array(at, mask=at < 0))
    spelling, reason = (pa.array(table[name], pa.string()) for name in ("spelling", "reason"))
    evidence = pa.array(decided, pa.string())
    merged = pc.not_equal(evidence, "")
    bare = pc.if_else(pc.and_(merged, pc.equal(reason, "as it is")), "", reason)
    both = pc.if_else(pc.and_(merged, pc.not_equal(bare, "")), " + ", "")
    reason = pc.binary_join_element_wise(bare, both, evidence, "")
    reason = pc.if_else(pc.equal(page, spelling).fill_null(False), "as it is", reason)
    masks, mask = np.unique(bits, return_inverse=True)
    names = pa.array([" ".join(name for n, name in enumerate(AUTHORITY) if one >> n & 1) for one in masks.tolist()], pa.string())
    result = {"spelling": spelling, "page": page, "reason": reason, "sources": names.take(pa.array(mask))}
    return pd.DataFrame({name: _series(column.take(pa.array(order))) for name, column in result.items()})


def _words_among_addresses(texts: pd.Series, code: NDArray[np.int64], source: pd.Series) -> NDArray[np.bool_]:
    """Which spellings are words, such as headings between rows: without a slash or a dot, in sources whose other rows have addresses or paths
    that begin with a slash.
    """
    given: Any = pa.array(texts, pa.string())
    word: NDArray[np.bool_] = pc.invert(pc.match_substring_regex(given, r"[/.?#:%]")).to_numpy(zero_copy_only=False).copy()
    if not word.any():
        return word
    rooted = pc.match_substring_regex(given, r"^(?:(?:https?:)?/|[^/?#]+\.[^/?#]+/)").to_numpy(zero_copy_only=False)
    loose = pc.match_substring_regex(given, r"^[^/.:?#]+/").to_numpy(zero_copy_only=False)
    rows = pd.DataFrame({"rooted": rooted[code], "loose": loose[code], "source": source.to_numpy()})
    of_source = rows.groupby("source").agg(rooted=("rooted", "mean"), loose=("loose", "any"))
    strict = (of_source["rooted"] > 0.5) & ~of_source["loose"]
    elsewhere = np.zeros(len(texts), dtype=bool)
    elsewhere[code[~rows["source"].map(strict).to_numpy(bool)]] = True
    word &= ~elsewhere
    return word


def parse(spellings: pd.Series, home: Home) -> pd.DataFrame:
    """Per spelling: strict (path and significant parameters; null if not of this site) and reason (what was normalised, or why set aside)."""
    table = pd.concat(in_portions(lambda texts: _parsed(texts, home), pa.array(spellings, type=pa.string()), AT_ONCE), ignore_index=True)
    return table.set_index(spellings.index)


def _parsed(spellings: pa.Array, home: Home) -> pd.DataFrame:
    text = pc.utf8_trim_whitespace(spellings)
    parts = pc.extract_regex(text, SIMPLE)
    host, path, query = (pc.struct_field(parts, name) for name in ("host", "path", "query"))
    odd = pc.or_(pc.match_substring_regex(path, r"(?i)%2e"), pc.and_(pc.equal(host, ""), pc.starts_with(path, "//")))
    path = pc.if_else(odd, None, path)  # encoded dots may hide dot segments, two slashes a host
    simple = pc.and_(pc.is_valid(parts), pc.or_(pc.not_equal(host, ""), pc.not_equal(path, ""))).fill_null(False)
    relative = pc.and_(simple, pc.equal(host, "")).fill_null(False)
    host, path, query = (pc.if_else(simple, part, None) for part in (pc.if_else(relative, home.host, host), path, query))
    rest = np.flatnonzero(~simple.to_numpy(zero_copy_only=False))
    if len(rest):
        slow = [_by_standard(value, home) for value in text.take(pa.array(rest)).to_pylist()]
        mask = pc.invert(simple)
        host, path, query = (
            pc.replace_with_mask(part, mask, pa.array([row[n] for row in slow], pa.string())) for n, part in enumerate((host, path, query))
        )
    path = _decoded_all(pc.if_else(pc.equal(path, ""), "/", path))
    folded = pc.replace_substring_regex(path, INDEX_FILE, "/")
    distinct = pc.unique(query).to_pylist()
    kept = pa.array([_kept(value or "", home) for value in distinct], pa.string()).take(pc.index_in(query, pa.array(distinct, pa.string())))
    strict = pc.binary_join_element_wise(folded, pc.if_else(pc.equal(kept, ""), "", pc.binary_join_element_wise("?", kept, "")), "")
    bare = pc.replace_substring_regex(host, r"^www\.", "")
    bad = pc.or_(pc.is_null(host), pc.equal(host, "").fill_null(True))
    apart = pc.is_in(bare, pa.array(sorted(home.apart), pa.string()))
    old = pc.is_in(bare, pa.array(sorted(home.moved), pa.string()))
    foreign = pc.and_(pc.invert(bad), pc.invert(pc.or_(apart, pc.is_in(bare, pa.array(sorted(home.known), pa.string())))))
    # a page of its own, never summed with the new one
    strict = pc.if_else(apart, pc.binary_join_element_wise("//", bare, strict, ""), strict)
    notes = [
        (pc.and_(pc.starts_with(text, "http://"), home.root.startswith("https")), "scheme"),
        (relative, "relative"),
        (pc.starts_with(host, "www."), "www"),
        (old, "old host"),
        (pc.and_(apart, pc.invert(old)), "host of the site"),
        (pc.and_(pc.invert(apart), pc.not_equal(bare, home.host)), "sibling host"),
        (pc.match_substring(text, "#"), "fragment"),
        (pc.not_equal(path, folded), "index file"),
        (pc.not_equal(pc.coalesce(query, pa.scalar("")), kept), "parameters"),
        (pc.invert(simple), "form"),
    ]
    reason: Any = pa.scalar("")
    for flag, word in notes:
        reason = pc.binary_join_element_wise(reason, pc.if_else(pc.fill_null(flag, False), f" + {word}", ""), "")
    reason = pc.replace_substring_regex(reason, r"^ \+ ", "")
    reason = pc.if_else(pc.equal(reason, ""), "as it is", reason)
    reason = pc.if_else(
        bad,
        NOT_AN_ADDRESS,
        pc.if_else(foreign, pc.binary_join_element_wise("other host: ", pc.coalesce(bare, pa.scalar("")), ""), reason),
    )
    return pd.DataFrame({"strict": _series(pc.if_else(pc.or_(bad, foreign), None, strict)), "reason": _series(reason)})


def _series(array: Any) -> pd.Series:
    combined = array.combine_chunks() if isinstance(array, pa.ChunkedArray) else array
    return pd.Series(pd.array(combined, dtype="str"))


def _decoded_all(path: Any) -> Any:
    """Paths with normalised percent-encoding; the distinct ones that have any are rewritten one by one."""
    encoded = pc.match_substring(path, "%").fill_null(False)
    if not pc.any(encoded).as_py():
        return path
    return pc.replace_with_mask(path, encoded, pa.array([_decoded(value) for value in path.filter(encoded).to_pylist()], pa.string()))


def _by_standard(text: str, home: Home) -> tuple[str | None, str | None, str | None]:
    """(host, path, query) of one spelling by the WHATWG standard; (None, None, None) if it is no address."""
    first = re.split(r"[/?#]", text, maxsplit=1)[0].lower()
    if "://" not in text and not text.startswith("/") and (_bare_host(first.split(":")[0]) in home.every or first.startswith("www.")):
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
    """Normalised percent-encoding: unreserved characters decoded, the rest with upper-case digits (RFC 3986, 6.2.2)."""

    def one(match: re.Match[str]) -> str:
        character = chr(int(match[1], 16))
        return character if character in UNRESERVED else match[0].upper()

    if "%" not in text:
        return text
    return COMPOSED.sub(_composed, re.sub(r"%([0-9A-Fa-f]{2})", one, text))


#: a letter followed by encoded ones
COMPOSED = re.compile(r"[A-Za-z]?(?:%[89A-F][0-9A-F])+")


def _composed(match: re.Match[str]) -> str:
    """Encoded letters in composed form (Unicode NFC), since some systems write an accent as a separate character."""
    text = unquote(match[0], errors="surrogateescape")
    return match[0] if unicodedata.is_normalized("NFC", text) else quote(unicodedata.normalize("NFC", text), errors="surrogateescape")


def _kept(query: str, home: Home) -> str:
    """The parameters that may distinguish pages, in a fixed order."""
    return "&".join(sorted(part for part in query.split("&") if part and not home.tracks.match(part)))


def _bare_host(host: str) -> str:
    return host.lower().removeprefix("www.")


def _ascii_host(host: str) -> str:
    """A host as in addresses: in punycode, without `www.`"""
    return _bare_host(host if host.isascii() else ada_url.idna_to_ascii(host.encode()).decode())


def weak_key(strict: pd.Series) -> pd.Series:
    """The common key of doubtful spellings: path in lower case, without trailing slash, parameters, print and mobile marks."""
    return pd.concat([_series(key) for key in in_portions(_weak, pa.array(strict, type=pa.string()), AT_ONCE)], ignore_index=True)


def _weak(strict: pa.Array) -> pa.Array:
    parts = pc.extract_regex(strict, r"^(?P<path>[^?]*)\??(?P<query>.*)$")
    path = pc.utf8_lower(pc.struct_field(parts, "path"))
    path = pc.replace_substring_regex(path, r"^/(?:m|mobile|amp)/", "/")
    path = pc.replace_substring_regex(path, r"/(?:(?:amp|print)/?)?$", "")
    query = pc.struct_field(parts, "query")
    distinct = pc.unique(query).to_pylist()
    apart = ["&".join(p for p in value.split("&") if p.split("=")[0].lower() in APART) for value in distinct]
    key = pa.array([f"?{value}" if value else "" for value in apart], pa.string()).take(pc.index_in(query, pa.array(distinct, pa.string())))
    return pc.binary_join_element_wise(path, key, "")


def _crawl_links(crawl: pd.DataFrame | None, home: Home) -> list[tuple[str, pd.DataFrame]]:
    """(word, links) for redirects and canonicals: start and end as strict addresses; a page that answers does not stand for one that fails."""
    if crawl is None or crawl.empty:
        return []
    result = []
    fails = crawl.loc[(crawl["status"] >= 400).fillna(False).astype(bool), "spelling"] if "status" in crawl else crawl["spelling"].head(0)
    failing = parse(fails.astype("str").reset_index(drop=True), home)["strict"].dropna()
    for column, word in (("redirect_to", "redirect"), ("canonical", "canonical")):
        rows = crawl[crawl[column].notna()].reset_index(drop=True)
        ends = parse(rows[column].astype("str"), home)["strict"]
        links = (
            pd.DataFrame({"start": parse(rows["spelling"].astype("str"), home)["strict"], "end": ends}).dropna().drop_duplicates("start")
        )
        stands = links["start"] != links["end"]
        result.append((word, links[stands & ~links["end"].isin(failing) if word == "canonical" else stands]))
    return result


def _evidence(strict: pd.Series, known: Codes, links: list[tuple[str, pd.DataFrame]]) -> tuple[Codes, NDArray[np.object_]]:
    """Per strict address: the number of the address of its page, and why ("" where nothing had to be decided).

    Args:
        strict: distinct addresses in order; known: the sources that contain each, as bits in the order of AUTHORITY.
    """
    weak = pd.factorize(weak_key(strict))[0]
    final, why = np.arange(len(strict)), np.full(len(strict), "", dtype=object)
    shared = np.bincount(weak, minlength=1)[weak] > 1 if len(weak) else np.zeros(0, dtype=bool)
    index = pd.Index(strict)
    for word, table in links:
        start, end = index.get_indexer(table["start"]), index.get_indexer(table["end"])
        use = (start >= 0) & (end >= 0)
        start, end = start[use], end[use]
        use = (weak[start] == weak[end]) & (final[start] == start) & (final[end] != start)
        twice = np.isin(start[use], end[use]) & np.isin(end[use], start[use])  # two addresses that refer to each other decide nothing
        final[start[use][~twice]], why[start[use][~twice]] = end[use][~twice], word
    target, reason = _without_needless(strict, known)
    use = (target >= 0) & (final == np.arange(len(final)))
    final[use], why[use] = target[use], reason[use]
    open_ = np.flatnonzero(shared & (final == np.arange(len(final))))
    _decide_by_sources(final, why, open_, weak, known, strict.str.contains(OWN_PARAMETERS, regex=True).to_numpy(bool))
    for _ in range(6):  # a merge into a merged spelling continues to the last one
        final = final[final]
    return final, why


def _without_needless(strict: pd.Series, known: Codes) -> tuple[Codes, NDArray[np.object_]]:
    """Per strict address: the number of the same address without parameters that only visits and links carry, -1 without any; and the reason.

    Such a parameter (a session, a campaign) occurs in no address of LISTING sources, and nearly all addresses with it are listed without it.
    """
    target, reason = np.full(len(strict), -1), np.full(len(strict), "", dtype=object)
    with_query = np.flatnonzero(strict.str.contains("?", regex=False).to_numpy(bool))
    if not len(with_query):
        return target, reason
    listed = (known & sum(1 << AUTHORITY.index(source) for source in LISTING)) > 0
    queries = pc.list_element(pc.split_pattern(pa.array(strict.iloc[with_query], pa.string()), "?", max_splits=1), 1)
    parts = pc.split_pattern(queries, "&")
    place = with_query[pc.list_parent_indices(parts).to_numpy()]
    names = _series(pc.utf8_lower(pc.list_element(pc.split_pattern(pc.list_flatten(parts), "=", max_splits=1), 0)))
    uses = pd.DataFrame({"name": names, "listed": listed[place]}).groupby("name")["listed"].agg(["size", "any"])
    uses = uses[(uses["size"] >= LEAST_WITH) & ~uses["any"] & ~uses.index.isin(APART)].sort_values("size", ascending=False, kind="stable")
    index, needless = pd.Index(strict), []
    for name in uses.index[:MOST_NAMES]:
        rows = np.unique(place[(names == name).to_numpy()])
        at = index.get_indexer(_without_parameters(strict.iloc[rows], [name]))
        if float(np.mean((at >= 0) & listed[at])) >= LISTED_WITHOUT:
            needless.append(str(name))
    rows = np.unique(place[names.isin(needless).to_numpy()])
    if len(rows):
        target[rows] = index.get_indexer(_without_parameters(strict.iloc[rows], needless))
        reason[rows] = "parameter that distinguishes no page"
    return target, reason


def _without_parameters(strict: pd.Series, names: list[str]) -> pd.Series:
    """The addresses without these parameters."""
    some = "|".join(re.escape(name) for name in names)
    bare = strict.str.replace(rf"(?i)(?<=[?&])(?:{some})(?:=[^&]*)?(?:&|$)", "", regex=True)
    return bare.str.replace(r"[?&]+$", "", regex=True)


def _decide_by_sources(
    final: Codes, why: NDArray[np.object_], left: Codes, weak: Codes, known: Codes, with_parameters: NDArray[np.bool_]
) -> None:
    """Spellings without a redirect: merged where the first source that contains any of them contains exactly one.

    A spelling with parameters that search lists as a page stays apart, and nothing is merged into one with parameters.
    """
    listed = (known >> AUTHORITY.index("search") & 1).astype(bool)
    for number, source in enumerate(AUTHORITY):
        if not len(left):
            return
        knows = (known[left] >> number & 1).astype(bool)
        count = np.bincount(weak[left], weights=knows)[weak[left]]
        one = np.full(int(weak.max()) + 1, -1)
        one[weak[left][knows]] = left[knows]
        target = one[weak[left]]
        merge = (count == 1) & ~knows & ~(with_parameters[left] & listed[left]) & ~with_parameters[target]
        final[left[merge]], why[left[merge]] = target[merge], f"only spelling in {source}"
        left = left[count == 0]
