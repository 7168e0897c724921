"""Columns recognised by their values alone: the only ones with suitable values, and those proven by a rate next to them."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
import pandas as pd

from nibbet.sources.header_words import MONEY, NOT_ASKED, NOT_CONVERTED, OF_NUMBERS, OTHER_DAYS, REMARKS, named_columns, words_of
from nibbet.sources.profile import Profile, holds_addresses_and_texts, is_ratio, never_above
from nibbet.sources.value_words import CHANNEL, NO_VALUE, ORGANIC, OTHER_CHANNEL

#: confidence of a column recognised by values alone: it is used, and marked
BY_VALUES = 0.6
#: confidence from which header words name a column outright
SAID = 0.9
#: share of distinct addresses from which a table has one row a page
ONCE = 0.9
#: share of distinct texts from which a column without header words holds titles
TITLED = 0.5
#: the end of an address of an image, which is no page
IMAGE = re.compile(r"(?i)\.(?:jpe?g|png|gif|webp|svg|avif|ico)(?:[?#]|$)")
#: a state of the index ("not indexed"), which is no directive to it
INDEXED = re.compile(
    r"(?i)\bindexed\b|\bindexiert|\bindexée?\b|\bindexad[ao]\b|\bindicizzat|\bgeïndexeerd|\bindexerad|\bindekseret|\bzaindeksowan"
)
#: share of all sessions up to which the only other count, never above the sessions, is that of conversions, whatever it is called
MOST_CONVERTED = 0.2
#: values of a dimension, such as the kinds of results; more are queries
MOST_OF_DIMENSION = 8
#: names of channels that a table has at most
MOST_CHANNELS = 40
#: rank correlation with clicks from which a number is a sum over clicks
SUM_OF_CLICKS = 0.5
#: largest rank of results
MOST_RANK = 200


#: header words of numbers that count nothing
IDENTIFIERS = frozenset(
    "id ids uid pk nr no number num index row line key sku ean isbn kennung identifiant identificador identificativo numero code".split()
)


def is_identifier(header: str, seen: Profile) -> bool:
    """Whether a column of whole numbers counts nothing: each row has another, and the header says so, or there is none and they run on by
    one.
    """
    known = seen.numbers[~np.isnan(seen.numbers)]
    if len(known) < 2 or len(np.unique(known)) < len(known):
        return False
    words = re.findall(r"[^\W_]+", header.lower())
    if words and words[0] != "unnamed":
        return words[-1] in IDENTIFIERS or words[0] == "id"
    return bool(np.all(np.diff(known) == 1))


@dataclass(frozen=True)
class Match:
    """The meaning of one column of a sheet; confidence is 0 to 1, where 1 means set by the user; `why` it is a guess, where it is one."""

    column: str
    header: str
    place: int
    confidence: float
    why: str = "by its values alone"

    @property
    def name(self) -> str:
        """Its header, else its place, as `columns` of a source takes both."""
        return self.header or f"#{self.place + 1}"


class ByValues:
    """Assigns columns of one kind that header words leave open."""

    def __init__(
        self,
        header: Sequence[str],
        sample: Sequence[Sequence[str]],
        seen: Sequence[Profile],
        matches: Mapping[str, Match],
        closed: set[int],
        fixed: set[str],
    ) -> None:
        """header, sample, seen: of the columns of a sheet; matches: assigned by words; closed: places that may not be used; fixed: columns
        set by the user.
        """
        self.matches = dict(matches)
        self._header, self._sample, self._seen, self._closed, self._fixed = header, sample, seen, closed, fixed

    def fill(self, kind: str) -> dict[str, Match]:
        """The matches including those by values."""
        of_kind: dict[str, Callable[[], object]] = {
            "search": self._search,
            "landings": self._landings,
            "crawl": self._crawl,
            "editorial": self._editorial,
            "links": lambda: self._ends("source", "target"),
            "backlinks": self._backlinks,
            "results": self._results,
            "demand": self._demand,
            "hits": self._hits,
            "events": self._events,
            "sitemap": lambda: self._take("page", self._only(self._addresses())),
        }
        if kind in of_kind:
            of_kind[kind]()
        return self.matches

    # -- places ----------------------------------------------------------------------------------------------------------------------------

    def _spare(self) -> list[int]:
        taken = {match.place for match in self.matches.values()} | self._closed
        return [place for place in range(len(self._seen)) if place not in taken]

    def _take(self, name: str, place: int | None) -> None:
        if place is not None and name not in self.matches:
            self.matches[name] = Match(name, self._header[place], place, BY_VALUES)

    @staticmethod
    def _only(places: list[int]) -> int | None:
        return places[0] if len(places) == 1 else None

    def _addresses(self) -> list[int]:
        return [place for place in self._spare() if self._seen[place].address > 0.8 and not self._tells(place, IMAGE)]

    def _tells(self, place: int, pattern: re.Pattern[str]) -> bool:
        """Whether most cells at a place match a pattern."""
        cells = [row[place] for row in self._sample if row[place]]
        return sum(pattern.search(cell) is not None for cell in cells) > len(cells) / 2

    def _days(self) -> list[int]:
        return [place for place in self._spare() if self._seen[place].date > 0.9 and not self._says(place, OTHER_DAYS)]

    def _says(self, place: int, words: frozenset[str]) -> bool:
        """Whether the header at a place has one of these words."""
        return not words.isdisjoint(words_of(self._header[place]))

    def _numbers(self) -> list[int]:
        return [place for place in self._spare() if self._seen[place].number > 0.9 and self._seen[place].date <= 0.9]

    def _wholes(self) -> list[int]:
        seen = self._seen
        return [place for place in self._numbers() if seen[place].whole and not seen[place].yes_no and not seen[place].status]

    def _counts(self) -> list[int]:
        return [place for place in self._wholes() if not is_identifier(self._header[place], self._seen[place])]

    def _statuses(self) -> list[int]:
        return [place for place in self._spare() if self._seen[place].status]

    def _wordiest(self) -> int | None:
        """The text column with the most distinct values, if one stands out."""
        texts = [p for p in self._spare() if self._seen[p].is_text and not self._seen[p].device and not self._seen[p].surface]
        weight = {place: self._seen[place].distinct * self._seen[place].words for place in texts}
        texts.sort(key=lambda place: (-weight[place], place))
        clear = len(texts) == 1 or (len(texts) > 1 and weight[texts[0]] > 1.2 * weight[texts[1]])
        return texts[0] if clear else None

    def _most_repeated(self) -> int | None:
        """The text column whose values repeat over rows, such as a query above its results."""
        texts = [place for place in self._spare() if self._seen[place].is_text]
        texts.sort(key=lambda place: (self._seen[place].distinct, place))
        return texts[0] if texts and (len(texts) == 1 or self._seen[texts[0]].distinct < self._seen[texts[1]].distinct) else None

    # -- kinds -----------------------------------------------------------------------------------------------------------------------------

    def _events(self) -> None:
        self._take("page", self._only(self._addresses()))
        self._take("date", self._only(self._days()))
        self._take("event", self._most_repeated())
        self._take("count", self._only(self._counts()))

    def _search(self) -> None:
        self._take("page", self._only(self._addresses()))
        self._take("date", self._only(self._days()))
        self._clicks_and_impressions()
        places = [
            p for p in self._numbers() if not self._seen[p].percent and not self._seen[p].whole and not np.any(self._seen[p].numbers < 1)
        ]
        places = [p for p in places if not MONEY.search(self._header[p])]
        place = self._only(places)
        if place is not None and not self._grows_with_clicks(place):
            self._take("position", place)
        query = self._wordiest()
        if query is not None and self._can_be_queries(query):
            self._take("query", query)

    def _can_be_queries(self, place: int) -> bool:
        """Whether a text column may hold queries: its header denies it not, and where no page is given, it has more values than a dimension."""
        values = {row[place] for row in self._sample}
        denied = self._says(place, NOT_ASKED) or bool(named_columns(self._header[place]) - {"query"} - OF_NUMBERS)
        return (
            not denied
            and ("page" in self.matches or not holds_addresses_and_texts(self._seen[place]))
            and ("page" in self.matches or len(values) > MOST_OF_DIMENSION)
        )

    def _grows_with_clicks(self, place: int) -> bool:
        """Whether a number is the larger the more clicks a row has, as costs are and positions are not."""
        if "clicks" not in self.matches:
            return False
        both = pd.DataFrame({"it": self._seen[place].numbers, "clicks": self._seen[self.matches["clicks"].place].numbers})
        return float(both.corr("spearman").to_numpy()[0, 1]) > SUM_OF_CLICKS

    def _clicks_and_impressions(self) -> None:
        seen, rates = self._seen, self._numbers()
        if {"clicks", "impressions"} <= set(self.matches):
            a, b = self.matches["clicks"], self.matches["impressions"]
            named = self._fixed & {"clicks", "impressions"}
            proved = any(is_ratio(seen[r], seen[a.place], seen[b.place]) for r in rates)
            if (
                not named and not proved and any(is_ratio(seen[r], seen[b.place], seen[a.place]) for r in rates)
            ):  # headed the other way round
                self.matches["clicks"] = replace(b, column="clicks", confidence=BY_VALUES)
                self.matches["impressions"] = replace(a, column="impressions", confidence=BY_VALUES)
            return
        pairs, proved_pairs, places = self._parts_and_wholes("clicks", "impressions")
        if len(proved_pairs) == 1 or (not proved_pairs and len(pairs) == 1 and len(places) == 2):
            part, whole = (proved_pairs or pairs)[0]
            self._take("clicks", part)
            self._take("impressions", whole)

    def _parts_and_wholes(self, part: str, whole: str) -> tuple[list[tuple[int, int]], list[tuple[int, int]], set[int]]:
        """Pairs of counts that can be a part and its whole, those proven by a rate, and the places examined."""
        seen, counts, rates = self._seen, self._counts(), self._numbers()
        ones = [self.matches[part].place] if part in self.matches else counts
        others = [self.matches[whole].place] if whole in self.matches else counts
        pairs = [(a, b) for a in ones for b in others if a != b and never_above(seen[a], seen[b])]
        proved = [(a, b) for a, b in pairs if any(r not in (a, b) and is_ratio(seen[r], seen[a], seen[b]) for r in rates)]
        return pairs, proved, {*ones, *others}

    def _stand_in(self, other: str, name: str) -> None:
        """Takes another column for a missing one, as doubtful."""
        if name not in self.matches and other in self.matches and other not in self._fixed:
            self.matches[name] = replace(self.matches.pop(other), column=name, confidence=BY_VALUES, why=f"for want of {name}")

    def _landings(self) -> None:
        self._take("page", self._only(self._addresses()))
        self._take("date", self._only(self._days()))
        if "medium" not in self.matches:
            self._take("channel", self._only([place for place in self._spare() if self._holds_channels(place)]))
        _, proved, _ = self._parts_and_wholes("engaged_sessions", "sessions")
        if len(proved) == 1 and not {"engaged_sessions", "sessions"} & set(self.matches):
            self._take("engaged_sessions", proved[0][0])
            self._take("sessions", proved[0][1])
        lone, users = self._only(self._counts()), self.matches.get("users")
        lone = lone if lone is not None and self._may_be_visits(lone) else None
        if lone is None or (users is not None and not never_above(self._seen[users.place], self._seen[lone])):
            self._stand_in("users", "sessions")  # visitors of a day are nearly its sessions, and never more
        self._take("sessions", lone)
        self._stand_in("views", "sessions")
        if "sessions" in self.matches:
            sessions = self._seen[self.matches["sessions"].place]
            rare = [
                place
                for place in self._numbers()
                if self._seen[place].whole
                and not self._seen[place].status
                and never_above(self._seen[place], sessions)
                and np.nansum(self._seen[place].numbers) <= MOST_CONVERTED * np.nansum(sessions.numbers)
                and self._may_be_visits(place)
            ]
            self._take("conversions", self._only(rare))

    def _holds_channels(self, place: int) -> bool:
        """Whether a text column holds names of channels, one of them that of unpaid search."""
        names = {row[place].strip().lower() for row in self._sample} - NO_VALUE
        known = [name for name in names if re.search(CHANNEL, name)]
        searched = any(re.search(ORGANIC, name) and not re.search(OTHER_CHANNEL, name) for name in known)
        return self._seen[place].is_text and len(names) <= MOST_CHANNELS and searched and len(known) > len(names) / 2

    def _may_be_visits(self, place: int) -> bool:
        """Whether the header of a count names nothing else than visits or what comes of them."""
        return not self._says(place, NOT_CONVERTED) and named_columns(self._header[place]) <= {"event", "count"}

    def _crawl(self) -> None:
        """page: the address column that is always filled with distinct values; canonical: the one that mostly repeats it."""
        self._redirects()
        seen, places = self._seen, self._addresses()
        full = [p for p in places if seen[p].filled == seen[p].rows and seen[p].distinct > 0.99]
        page_column = self.matches.get("page")
        if (
            page_column is not None
            and page_column.confidence < SAID
            and "page" not in self._fixed
            and seen[page_column.place].filled < seen[page_column.place].rows
            and full
        ):
            del self.matches["page"]  # every row of an inventory has its page
        self._take("page", full[0] if full else self._only(places))
        if "page" in self.matches:
            page = self.matches["page"].place
            alike = {p: sum(row[p].rstrip("/") == row[page].rstrip("/") for row in self._sample) for p in self._addresses()}
            self._take("canonical", self._only([p for p, same in alike.items() if seen[p].filled and same > 0.6 * seen[p].filled]))
        self._take("status", self._only(self._statuses()))
        directives = self._only([p for p in self._spare() if seen[p].index_words])
        self._take("noindex" if directives is None or not self._tells(directives, INDEXED) else "index_state", directives)
        self._take("media", self._only([p for p in self._spare() if seen[p].media > 0.6]))
        if not {"title", "h1", "description", "text"} & set(self.matches):
            wordiest = self._wordiest()  # a column of few values, such as authors, holds no titles
            self._take("title", wordiest if wordiest is not None and self._seen[wordiest].distinct > TITLED else None)

    def _redirects(self) -> None:
        """Where all rows redirect, the other column of addresses is the target: the second of two without header words."""
        page_column = self.matches.get("page")
        if "redirect_to" in self.matches or not any(seen.redirects for seen in self._seen):
            return
        if page_column is None or page_column.confidence < BY_VALUES:
            places = sorted([*self._addresses(), *([page_column.place] if page_column else [])])
            if len(places) != 2:
                return
            self.matches["page"] = Match("page", self._header[places[0]], places[0], BY_VALUES)
        self._take("redirect_to", self._only(self._addresses()))

    def _editorial(self) -> None:
        self._take("page", self._only(self._addresses()))
        subject = self.matches.get("page", self.matches.get("slug"))
        remarks = any(self._says(place, REMARKS) for place in self._spare())
        if subject is not None and self._seen[subject.place].distinct > ONCE and not remarks:  # otherwise these are days of rows
            self._take("published", self._only(self._days()))
        self._take("protected", self._only([p for p in self._spare() if self._seen[p].yes_no]))  # protecting too much does no harm

    def _ends(self, one: str, other: str) -> None:
        """Source and target of a link: the only two columns of addresses, in that order, or the only one left."""
        places = self._addresses()
        if one not in self.matches and other not in self.matches and len(places) == 2:
            self._take(one, places[0])
            self._take(other, places[1])
        elif len(places) == 1:
            self._take(one if other in self.matches else other, places[0])

    def _backlinks(self) -> None:
        """Backlinks come from many hosts and lead to few, whatever the order of columns."""
        self._ends("from_url", "page")
        ends = [self.matches.get(name) for name in ("from_url", "page")]
        if not self._fixed & {"from_url", "page"} and all(end is not None and end.confidence < SAID for end in ends):
            one, other = (end for end in ends if end is not None)
            if self._hosts(one.place) < self._hosts(other.place):
                self.matches |= {"from_url": replace(other, column="from_url"), "page": replace(one, column="page")}

    def _hosts(self, place: int) -> int:
        return len({row[place].partition("://")[2].partition("/")[0] for row in self._sample})

    def _results(self) -> None:
        self._take("url", self._only(self._addresses()))
        ranks = [
            p
            for p in self._wholes()
            if 1 <= float(np.nanmin(self._seen[p].numbers)) <= float(np.nanmax(self._seen[p].numbers)) <= MOST_RANK
            and named_columns(self._header[p]) <= {"rank", "position"}
        ]
        self._take("rank", self._only(ranks))
        self._take("query", self._most_repeated())

    def _demand(self) -> None:
        self._take("month", self._only(self._days()))
        self._take("volume", self._only(self._counts()))
        self._take("query", self._wordiest())

    def _hits(self) -> None:
        self._take("time", self._only(self._days()))
        self._take("path", self._only(self._addresses()))
        self._take("status", self._only(self._statuses()))
