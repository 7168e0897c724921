"""Reads an HTML page: texts, flags, dates, and links with their place."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from datetime import date
from functools import lru_cache
from typing import Any, NamedTuple

import ada_url
from selectolax.lexbor import LexborHTMLParser, LexborNode

from nibbet.core.encodings import legacy_encoding

#: letters of the main text that are kept: more adds nothing about what a page answers
MOST_TEXT = 20_000
#: links of one page that are kept
MOST_LINKS = 5_000
#: links of a trail of breadcrumbs that are read
MOST_TRAIL = 20
#: unclosed tags from which only the beginning of a page is read, and its length in bytes: parsing takes quadratic time in their number
MOST_OPEN, BEGINNING = 20_000, 100_000
#: bytes beyond ASCII from which the charset is detected; with fewer, the default of the web is assumed
FEW_STRANGE = 100
#: letters of a title, a heading, an anchor that are kept
MOST_LETTERS = 1_000
#: elements that are not read as text
SILENT = "script, style, noscript, template, svg, iframe, select, button"
#: parts of a page that repeat on other pages; the innermost one around a link gives its place
PLACES = {"nav": "navigation", "header": "header", "footer": "footer", "aside": "aside"}
#: answers by which a host refuses or postpones robots while it admits readers
REFUSED = (401, 403, 405, 406, 407, 429, 451, 503, 999)
#: why an address gives no answer, in the words of the crawl and its tables
TOO_SLOW, CERTIFICATE, NO_CONNECTION, BROKEN = SILENT_FOR = (
    "no whole answer in time", "its certificate does not hold", "no connection", "broken answer"
)  # fmt: skip
#: directives for robots with a value after a colon; any other word before a colon names a robot
VALUED = ("unavailable_after", "max-snippet", "max-image-preview", "max-video-preview")
#: directives that block a page from the index, and all directives without a value
KEEPS_OUT = {"noindex", "none"}
DIRECTIVES = KEEPS_OUT | set("index follow all nofollow noarchive nosnippet noimageindex notranslate indexifembedded nocache".split())
#: the same parts, given by a role
ROLES = {"navigation": "navigation", "banner": "header", "contentinfo": "footer", "complementary": "aside"}
BOILERPLATE = ", ".join([*PLACES, *(f"[role={role}]" for role in ROLES), "form", "dialog"])
#: names of the dates of a page in markup: first published, last changed
PUBLISHED = ("article:published_time", "datepublished", "date.issued", "dc.date.issued", "dcterms.issued", "dcterms.created", "pubdate", "publish-date")  # fmt: skip
MODIFIED = ("article:modified_time", "datemodified", "dc.date.modified", "dcterms.modified", "last-modified", "og:updated_time")
CHARSET = re.compile(rb"<meta[^>]{0,200}?charset\s*=\s*[\"']?\s*([\w-]+)", re.IGNORECASE)
DAY = re.compile(r"(\d{4})-(\d{2})-(\d{2})")


class Link(NamedTuple):
    """A link on a page: address (absolute, without its fragment), anchor (text, or that of its image), rel, place (main, navigation, header,
    footer, aside).
    """

    target: str
    anchor: str
    rel: str
    place: str


@dataclass(frozen=True)
class Markup:
    """The content of a page: texts are empty and days None where missing. robots: the words of its robots tags, in lower case; alternates:
    language and address of its versions; parent: the parent page by its breadcrumbs; refresh: target of an immediate refresh; kept_from:
    robots blocked by a tag of their own.
    """

    title: str = ""
    description: str = ""
    h1: str = ""
    headings: str = ""
    canonical: str = ""
    parent: str = ""
    robots: str = ""
    language: str = ""
    alternates: tuple[tuple[str, str], ...] = ()
    text: str = ""
    words: int = 0
    published: date | None = None
    modified: date | None = None
    refresh: str = ""
    kept_from: tuple[str, ...] = ()
    links: list[Link] = field(default_factory=list)


def decoded(body: bytes, media: str = "") -> str:
    """The text of a page: by its byte order mark, the charset of the header, the one in the page, else UTF-8, else by detection."""
    named = re.search(r"charset\s*=\s*[\"']?([\w-]+)", media, re.IGNORECASE)
    charset = CHARSET.search(body[:2048])
    marks = {b"\xef\xbb\xbf": "utf-8-sig", b"\xff\xfe": "utf-16", b"\xfe\xff": "utf-16"}
    by_mark = next((name for mark, name in marks.items() if body.startswith(mark)), None)
    for name in (by_mark, named[1] if named else None, charset[1].decode("ascii", "replace") if charset else None, "utf-8"):
        if name:
            try:
                return body.decode("cp1252" if name.lower() in ("iso-8859-1", "latin-1", "latin1", "us-ascii", "ascii") else name)
            except (LookupError, UnicodeDecodeError):
                continue
    strange = sum(byte > 127 for byte in body[:20_000])
    return body.decode(legacy_encoding(body[:20_000]) if strange >= FEW_STRANGE else "cp1252", "replace")


def read_markup(body: bytes, address: str, media: str = "") -> Markup:
    """The content of an HTML page.

    Args:
        body: its bytes, uncompressed; address: where it was fetched, the base of links; media: its Content-Type.
    """
    if body.count(b"<") - 2 * body.count(b"</") > MOST_OPEN:
        body = body[:BEGINNING]
    tree = LexborHTMLParser(decoded(body, media))
    base = _base(tree, address)
    metas = _metas(tree)
    links = _links(tree, base)
    facts = {name: _text_of(tree, name) for name in ("title", "h1")}
    headings = [text for node in tree.css("h2, h3") if (text := _text(node))]
    head = tree.css_first("html")
    language = (head.attributes.get("lang") or "") if head is not None else ""
    canonical, alternates = "", []
    for node in tree.css("link[rel][href]"):
        rel, target = (node.attributes.get("rel") or "").lower().split(), joined(base, node.attributes.get("href") or "")
        if "canonical" in rel and target and not canonical:
            canonical = target
        elif "alternate" in rel and target and (code := node.attributes.get("hreflang")):
            alternates.append((code.lower(), target))
    published, modified = _days(tree, metas)
    parent = _parent(tree, base, canonical or address)
    text = _main_text(tree)  # last, because it removes parts of the tree
    return Markup(
        title=facts["title"],
        description=metas.get("description", metas.get("og:description", "")),
        h1=facts["h1"],
        headings="|".join(headings)[:MOST_TEXT],
        canonical=canonical,
        parent=parent,
        kept_from=_kept_from(tree),
        robots=", ".join(node.attributes.get("content") or "" for node in tree.css("meta[name=robots i][content]")).lower(),
        language=(language or metas.get("content-language", "")).lower()[:20],
        alternates=tuple(alternates[:100]),
        text=text[:MOST_TEXT],
        words=len(text.split()),
        published=published,
        modified=modified,
        refresh=_refresh(metas, base),
        links=links,
    )


def joined(base: str, target: str) -> str:
    """The absolute address of a link without its fragment; empty unless it is http or https."""
    target = target.strip()
    if not target or target.startswith(("#", "mailto:", "tel:", "javascript:", "data:")):
        return ""
    if target[0] == "/" and target[1:2] != "/":  # independent of the path of the base, and common on most sites
        return _joined(_host_page(base), target)
    return _joined("" if "://" in target[:8] else base, target)


@lru_cache(1_000)
def _host_page(base: str) -> str:
    return "/".join(base.split("/", 3)[:3]) + "/"


@lru_cache(100_000)
def _joined(base: str, target: str) -> str:
    try:
        address: str = ada_url.join_url(base, target) if base else ada_url.normalize_url(target)
    except ValueError:
        return ""
    return address.partition("#")[0] if address.startswith(("http://", "https://")) else ""


def _base(tree: LexborHTMLParser, address: str) -> str:
    node = tree.css_first("base[href]")
    return (joined(address, node.attributes.get("href") or "") if node is not None else "") or address


def _metas(tree: LexborHTMLParser) -> dict[str, str]:
    """The content of each meta tag by its name, the first of each."""
    result: dict[str, str] = {}
    for node in tree.css("meta[content]"):
        attributes = node.attributes
        name = (
            attributes.get("name") or attributes.get("property") or attributes.get("itemprop") or attributes.get("http-equiv") or ""
        ).lower()
        if name:
            result.setdefault(name, _one_line(attributes.get("content") or ""))
    return result


def _text_of(tree: LexborHTMLParser, name: str) -> str:
    node = tree.css_first(f"head > {name}" if name == "title" else name) or tree.css_first(name)
    return _text(node) if node is not None else ""


def _text(node: LexborNode) -> str:
    return _one_line(node.text(deep=True, separator=" "))


def _one_line(text: str) -> str:
    return " ".join(text.split())[:MOST_LETTERS]


def _links(tree: LexborHTMLParser, base: str) -> list[Link]:
    places: dict[int, str] = {}
    for mark, place in (PLACES | {f"[role={role}]": place for role, place in ROLES.items()}).items():
        for node in tree.css(f"{mark} a[href]"):
            places.setdefault(node.mem_id, place)
    result = []
    for node in tree.css("a[href], area[href]"):
        attributes = node.attributes
        if not (target := joined(base, attributes.get("href") or "")):
            continue
        anchor = _text(node)
        if not anchor and (image := node.css_first("img[alt]")) is not None:
            anchor = _one_line(image.attributes.get("alt") or "")
        result.append(Link(target, anchor or _one_line(attributes.get("title") or ""), (attributes.get("rel") or "").lower()[:100], places.get(node.mem_id, "main")))  # fmt: skip
        if len(result) == MOST_LINKS:
            break
    return result


def _refresh(metas: Mapping[str, str], base: str) -> str:
    """The target of a refresh within five seconds."""
    match = re.match(r"\s*(\d+)(?:\.\d*)?\s*[;,]\s*(?:url\s*=\s*)?[\"']?([^\"']+)", metas.get("refresh", ""), re.IGNORECASE)
    return joined(base, match[2]) if match and int(match[1]) <= 5 else ""


def _main_text(tree: LexborHTMLParser) -> str:
    """The text of a page without parts that repeat on other pages; of its main element where it has one."""
    root = tree.css_first("main") or tree.css_first("[role=main]") or tree.css_first("article") or tree.body
    if root is None:
        return ""
    for node in root.css(f"{SILENT}, {BOILERPLATE}"):
        node.decompose()
    return " ".join(root.text(deep=True, separator=" ").split())


def _days(tree: LexborHTMLParser, metas: Mapping[str, str]) -> tuple[date | None, date | None]:
    """(published, modified) from meta tags, structured data or the first time element."""
    published, modified = (next((day for name in names if (day := _day(metas.get(name)))), None) for names in (PUBLISHED, MODIFIED))
    for one in _structured(tree):
        published = published or _day(one.get("datePublished"))
        modified = modified or _day(one.get("dateModified"))
    if published is None and (node := tree.css_first("article time[datetime], main time[datetime], time[pubdate][datetime]")) is not None:
        published = _day(node.attributes.get("datetime"))
    return published, modified


def _structured(tree: LexborHTMLParser) -> Iterator[dict[str, Any]]:
    """The objects described by JSON-LD, pages before their parts."""
    for node in tree.css("script[type='application/ld+json']"):
        try:
            data = json.loads(node.text(deep=True) or "")
        except (ValueError, RecursionError):
            continue
        for one in data if isinstance(data, list) else [data]:
            if isinstance(one, dict):
                graph = one.get("@graph")
                yield one
                yield from (part for part in graph if isinstance(part, dict)) if isinstance(graph, list) else ()


def _parent(tree: LexborHTMLParser, base: str, address: str) -> str:
    """The last page before this one in its breadcrumbs, from structured data or links; empty without any."""
    trail: list[str] = []
    for one in _structured(tree):
        items = one.get("itemListElement")
        if one.get("@type") == "BreadcrumbList" and isinstance(items, list):
            named = [item.get("item") for item in items if isinstance(item, dict)]
            addresses = [item.get("@id") if isinstance(item, dict) else item for item in named]
            trail = [joined(base, target) for target in addresses if isinstance(target, str)]
            break
    if not trail:
        links = tree.css(
            "[aria-label*=breadcrumb i] a[href], [itemtype$=BreadcrumbList] a[href], .breadcrumb a[href], .breadcrumbs a[href]"
        )
        trail = [joined(base, node.attributes.get("href") or "") for node in links[:MOST_TRAIL]]
    bare = address.rstrip("/")
    return next((target for target in reversed(trail) if target and target.rstrip("/") != bare), "")


def _day(text: object) -> date | None:
    match = DAY.match(text.strip()) if isinstance(text, str) else None
    try:
        return date(int(match[1]), int(match[2]), int(match[3])) if match else None
    except ValueError:
        return None


#: content types of pages
HTML = ("text/html", "application/xhtml+xml")


def media_of(headers: Mapping[str, str], body: bytes = b"") -> str:
    """The content type of an answer, without its charset; by its first bytes where the headers lack it."""
    media = headers.get("content-type", "").partition(";")[0].strip().lower()
    return media or ("text/html" if body.lstrip()[:15].lower().startswith((b"<!doctype html", b"<html")) else "")


def answer_facts(
    address: str, status: int | None, headers: Mapping[str, str], body: bytes
) -> tuple[dict[str, Any], list[tuple[str, str, str, str]], list[str]]:
    """The facts in an answer about its address.

    Args:
        headers: by names in lower case; body: uncompressed.
    Returns:
        (columns of an inventory; links as target, anchor, rel, place; addresses to which it leads on).
    """
    record: dict[str, Any] = {"media": media_of(headers, body)}
    if status and 300 <= status < 400 and (target := joined(address, headers.get("location", ""))):
        return {**record, "redirect_to": target}, [], [target]
    if status != 200 or record["media"] not in HTML:
        return record, [], []
    page = read_markup(body, address, headers.get("content-type", ""))
    canonical = page.canonical or _header_canonical(address, headers.get("link", ""))
    by_robot = directives(headers.get("x-robots-tag", ""))
    robot_words = set(re.split(r"[\s,:]+", page.robots)) | by_robot["*"]
    alone = {*page.kept_from, *(robot for robot, words in by_robot.items() if robot != "*" and words & KEEPS_OUT)}
    texts = {name: getattr(page, name) for name in ("title", "description", "h1", "headings", "text", "words", "language")}
    days = {name: day.isoformat() if (day := getattr(page, name)) else None for name in ("published", "modified")}
    record.update(texts, **days, canonical=canonical, parent=page.parent, noindex="noindex" if robot_words & KEEPS_OUT else "index")
    record["noindex_for"] = ", ".join(sorted(alone))
    links: list[tuple[str, str, str, str]] = list(page.links)
    closed = {"nofollow", "none"} & robot_words
    follow = [] if closed else [link.target for link in page.links if "nofollow" not in link.rel.split()]
    if page.refresh:
        record["redirect_to"] = page.refresh
        follow.append(page.refresh)
    return record, links, [*follow, *([canonical] if canonical else []), *(one for _, one in page.alternates)]


def directives(header: str) -> dict[str, set[str]]:
    """The directives of an X-Robots-Tag header by robot; "*" for all.

    Args:
        header: its value; the values of several headers on separate lines.
    """
    result: dict[str, set[str]] = {"*": set()}
    for line in header.lower().splitlines():
        robot = "*"
        for part in line.split(","):
            name, colon, rest = part.strip().partition(":")
            if colon and name not in VALUED:
                robot, part = name.strip(), rest
            result.setdefault(robot, set()).add(part.strip())
    return result


def _kept_from(tree: LexborHTMLParser) -> tuple[str, ...]:
    """The robots blocked by a tag of their own: a tag with that name and nothing but directives."""
    result = []
    for node in tree.css("meta[name][content]"):
        name = (node.attributes.get("name") or "").strip().lower()
        words = set(re.split(r"[\s,;]+", (node.attributes.get("content") or "").strip().lower())) - {""}
        if name != "robots" and words & KEEPS_OUT and words <= DIRECTIVES:
            result.append(name)
    return tuple(result)


def _header_canonical(address: str, link: str) -> str:
    """The canonical address in a Link header (RFC 8288)."""
    match = re.search(r"<([^>]*)>\s*;[^,]*rel\s*=\s*\"?canonical\"?", link, re.IGNORECASE)
    return joined(address, match[1]) if match else ""


def host_of(address: str) -> str:
    """The host of an address without `www.`; empty where it has none."""
    named = address.partition("//")[2].partition("/")[0].partition("?")[0].partition("#")[0].rpartition("@")[2]
    host = named.partition("]")[0] + "]" if named.startswith("[") else named.partition(":")[0]
    return host.lower().removeprefix("www.")
