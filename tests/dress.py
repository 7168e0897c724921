"""One made-up site written in random dress: other header words and languages, orders, habits of numbers and days, grains, packages, addresses."""

from __future__ import annotations

import csv
import gzip
import io
import json
import zipfile
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from datetime import date, timedelta
from pathlib import Path
from random import Random

import pandas as pd
import xlsxwriter

HOST = "oakenshaw.example"
END = date(2026, 10, 31)
RECENT, BEFORE, YEAR = (date(2026, 8, 3), END), (date(2025, 8, 3), date(2025, 10, 31)), (date(2025, 11, 1), END)
SUBJECTS, QUESTIONS = ("oak", "ash", "elm", "yew"), ("drying", "carving", "joints", "finish", "tools", "sawing")
HUBS = tuple(f"/{s}" for s in SUBJECTS)
PAGES = ("/", *HUBS, *(f"/{s}/{q}" for s in SUBJECTS for q in QUESTIONS), "/legal/imprint", "/old/offer")
NOINDEX, PROTECTED, DEAD, DECAYED = {"/yew/tools"}, {"/legal/imprint"}, {"/old/offer", "/legal/imprint"}, {"/oak/drying", "/ash/joints"}


def truth() -> pd.DataFrame:
    """date, page, query, clicks, impressions, position of every page that is found, over 455 days."""
    r, rows = Random(8), []
    for page in PAGES:
        if page in DEAD or page in HUBS:
            continue
        words = page.strip("/").split("/")
        named = (
            [" ".join(words), f"how to {words[-1]} {words[0]}", f"{' '.join(words)} at home"]
            if page != "/"
            else ["oakenshaw", "oakenshaw wood"]
        )
        for back in range(455):
            for query in named:
                lost = page in DECAYED and back < 150
                place = r.uniform(9.0, 13.0) if lost else r.uniform(1.5, 3.5)
                shown = r.randint(20, 60) // (3 if lost else 1)
                rows.append(
                    (
                        END - timedelta(back),
                        page,
                        query,
                        min(shown, int(shown * (0.02 if lost else 0.34 / place) + r.random())),
                        shown,
                        round(place, 2),
                    )
                )
    return pd.DataFrame(rows, columns=["date", "page", "query", "clicks", "impressions", "position"])


TRUTH = truth()

#: words of headers by language; nonsense tells nothing, so that only values do
WORDS: dict[str, dict[str, str]] = {
    "trade": {"date": "Date", "page": "Page", "query": "Query", "clicks": "Clicks", "impressions": "Impressions", "position": "Position", "ctr": "CTR", "sessions": "Sessions", "conversions": "Conversions", "channel": "Channel", "status": "Status code", "title": "Title", "h1": "H1", "published": "Published", "indexable": "Indexable", "noindex": "Noindex", "protected": "Protected"},
    "synonyms": {"date": "Day", "page": "Address", "query": "Search term", "clicks": "Visits from search", "impressions": "Times shown", "position": "Avg. pos.", "ctr": "Rate", "sessions": "Visits", "conversions": "Orders", "channel": "Channel group", "status": "HTTP status", "title": "Page title", "h1": "H1-1", "published": "First published", "indexable": "Indexability", "noindex": "No index", "protected": "Keep"},
    "German": {"date": "Datum", "page": "Seite", "query": "Suchanfrage", "clicks": "Klicks", "impressions": "Impressionen", "position": "Mittlere Position", "ctr": "Klickrate", "sessions": "Sitzungen", "conversions": "Abschlüsse", "channel": "Kanal", "status": "Statuscode", "title": "Titel", "h1": "Hauptüberschrift", "published": "Veröffentlicht", "indexable": "Indexierbar", "noindex": "Noindex", "protected": "Geschützt"},
    "French": {"date": "Jour", "page": "Page", "query": "Requête", "clicks": "Clics", "impressions": "Affichages", "position": "Position", "ctr": "Taux de clics", "sessions": "Séances", "conversions": "Commandes", "channel": "Canal", "status": "Statut", "title": "Titre", "h1": "Titre principal", "published": "Publié le", "indexable": "Indexable", "noindex": "Noindex", "protected": "Protégé"},
    "Spanish": {"date": "Fecha", "page": "Página", "query": "Consulta", "clicks": "Clics", "impressions": "Impresiones", "position": "Posición", "ctr": "Porcentaje", "sessions": "Sesiones", "conversions": "Pedidos", "channel": "Canal", "status": "Estado", "title": "Título", "h1": "Encabezado", "published": "Publicado", "indexable": "Indexable", "noindex": "Noindex", "protected": "Protegido"},
    "Italian": {"date": "Giorno", "page": "Pagina", "query": "Parola chiave", "clicks": "Clic", "impressions": "Impressioni", "position": "Posizione", "ctr": "Tasso", "sessions": "Sessioni", "conversions": "Ordini", "channel": "Canale", "status": "Codice", "title": "Titolo", "h1": "H1", "published": "Pubblicato", "indexable": "Indicizzabile", "noindex": "Noindex", "protected": "Protetto"},
    "Dutch": {"date": "Dag", "page": "Pagina", "query": "Zoekterm", "clicks": "Klikken", "impressions": "Vertoningen", "position": "Positie", "ctr": "Aandeel", "sessions": "Sessies", "conversions": "Bestellingen", "channel": "Kanaal", "status": "Statuscode", "title": "Titel", "h1": "H1", "published": "Gepubliceerd", "indexable": "Indexeerbaar", "noindex": "Noindex", "protected": "Beschermd"},
    "Swedish": {"date": "Datum", "page": "Sida", "query": "Sökord", "clicks": "Klickningar", "impressions": "Visningar", "position": "Placering", "ctr": "Andel", "sessions": "Sessioner", "conversions": "Konverteringar", "channel": "Kanal", "status": "Status", "title": "Titel", "h1": "H1", "published": "Publicerad", "indexable": "Indexerbar", "noindex": "Noindex", "protected": "Skyddad"},
    "Polish": {"date": "Data", "page": "Strona", "query": "Zapytanie", "clicks": "Kliknięcia", "impressions": "Wyświetlenia", "position": "Pozycja", "ctr": "Udział", "sessions": "Sesje", "conversions": "Zamówienia", "channel": "Kanał", "status": "Status", "title": "Tytuł", "h1": "H1", "published": "Opublikowano", "indexable": "Indeksowalna", "noindex": "Noindex", "protected": "Chroniona"},
    "Japanese": {"date": "日付", "page": "ページ", "query": "検索クエリ", "clicks": "クリック数", "impressions": "表示回数", "position": "掲載順位", "ctr": "率", "sessions": "セッション", "conversions": "コンバージョン", "channel": "チャネル", "status": "Status", "title": "タイトル", "h1": "H1", "published": "公開日", "indexable": "インデックス可能", "noindex": "Noindex", "protected": "保護"},
    "nonsense": {},
}  # fmt: skip
YES_NO = [("yes", "no"), ("true", "false"), ("1", "0"), ("ja", "nein"), ("oui", "non"), ("sí", "no"), ("Y", "N"), ("TRUE", "FALSE")]
DAYS: dict[str, Callable[[date], str]] = {
    "iso": lambda d: d.isoformat(),
    "dots": lambda d: d.strftime("%d.%m.%Y"),
    "slashes": lambda d: d.strftime("%d/%m/%Y"),
    "month first": lambda d: d.strftime("%m/%d/%Y"),
    "bare": lambda d: d.strftime("%Y%m%d"),
    "names": lambda d: d.strftime("%d %b %Y"),
}
GRAINS = ("daily", "monthly", "undated", "sidebyside")
#: what else exports come with: marks of thousands, a row of totals, columns of no use, all cells quoted, times beside days, dashes for zeros, units in
#: headers, notes below the table, another order of rows, a source and its medium in one column, tracking parameters, other line ends, a separator at the
#: end of each line, the header once more further down, empty lines, blanks around cells
STAINS = (
    "thousands",
    "totals first",
    "totals last",
    "columns",
    "quotes",
    "times",
    "dashes",
    "units",
    "footer",
    "shuffled",
    "medium",
    "tracked",
)


@dataclass
class Dress:
    """What a site comes in; every choice is made from one seed."""

    seed: int
    random: Random = field(init=False)

    def __post_init__(self) -> None:
        r = self.random = Random(self.seed)
        self.grain = r.choice(GRAINS)
        self.language = r.choice(list(WORDS))
        self.order = r.random()
        self.delimiter = r.choice([",", ";", "\t", "|"])
        self.comma = r.random() < 0.4
        self.encoding = r.choice(["utf-8", "utf-8", "utf-8-sig", "utf-16"])
        self.days = r.choice(list(DAYS))
        self.percent = r.random() < 0.5
        self.rate = r.random() < 0.7 or self.language == "nonsense"
        self.package = r.choice(["plain", "plain", "gzip", "zip", "xlsx", "jsonl", "answer", "split"])
        self.prefix = r.choice([f"https://{HOST}", f"https://www.{HOST}", f"http://{HOST}", f"https://{HOST.upper()}"])
        self.visits_bare = r.random() < 0.5
        self.slash = r.random() < 0.5
        self.ending = r.choice(["", "", ".html", ".php"])
        self.folder = r.choice(["", "", "/en", "/de-ch"])
        self.flag = r.choice(["indexable", "noindex", "robots"])
        self.yes, self.no = r.choice(YES_NO)
        self.crawled = r.random() < 0.8
        self.preamble = r.random() < 0.2 and self.package in ("plain", "gzip", "split")
        chance = Random(-1 - self.seed)
        self.stains = {stain for stain in STAINS if chance.random() < 0.2}

    def path(self, page: str) -> str:
        """The path of a page in this dress."""
        if page == "/":
            return f"{self.folder}/" if self.folder else "/"
        return f"{self.folder}{page}" + (self.ending or ("/" if self.slash else ""))

    def head(self, name: str) -> str:
        """The header of a column."""
        words = WORDS[self.language]
        return words.get(name) or (WORDS["trade"]["noindex"] if name == "noindex" else f"col_{sum(map(ord, name)) % 97}")

    def day(self, day: date) -> str:
        """A day as this dress writes it."""
        return DAYS[self.days](day) + (" 00:00:00" if "times" in self.stains and self.days == "iso" else "")

    def number(self, value: object) -> str:
        """A number as this dress writes it."""
        text = str(value)
        return text.replace(".", ",") if self.comma else text

    def count(self, value: int) -> str:
        """A count as this dress writes it."""
        if "dashes" in self.stains and not value:
            return "-"
        return f"{value:,}".replace(",", "." if self.comma else ",") if "thousands" in self.stains else str(value)

    # -- tables ----------------------------------------------------------------------------------------------------------------------------

    def search(self) -> dict[str, list[list[str]]]:
        """The search tables by file name, header first."""
        rows = TRUTH
        if self.grain == "daily":
            return {"search": self._table(rows.assign(places=rows["position"] * rows["impressions"]), ["date", "page", "query"])}
        if self.grain == "monthly":
            month = rows[rows["date"] >= date(2025, 9, 1)]
            month = month.assign(date=month["date"].map(lambda d: d.replace(day=1)), places=month["position"] * month["impressions"])
            return {"search": self._table(month, ["date", "page", "query"])}
        windows = {f"search {a} {b}": rows[(rows["date"] >= a) & (rows["date"] <= b)] for a, b in (RECENT, BEFORE, YEAR)}
        windows = {name: part.assign(places=part["position"] * part["impressions"]) for name, part in windows.items()}
        if self.grain == "undated":
            return {name: self._table(part, ["page", "query"]) for name, part in windows.items()}
        one, other, year = windows.values()
        left, right = (self._table(part, ["page", "query"], fixed=True) for part in (one, other))
        known = {(row[0], row[1]): row[2:] for row in right[1:]}
        spans = [f"{a} - {b}" for a, b in (RECENT, BEFORE)]
        head = [*left[0][:2], *(f"{name} {spans[0]}" for name in left[0][2:]), *(f"{name} {spans[1]}" for name in left[0][2:])]
        both = [head, *([*row, *known.get((row[0], row[1]), [""] * len(row[2:]))] for row in left[1:])]
        return {"search": both, f"search {YEAR[0]} {YEAR[1]}": self._table(year, ["page", "query"], fixed=True)}

    def _table(self, rows: pd.DataFrame, by: list[str], *, fixed: bool = False) -> list[list[str]]:
        sums = rows.groupby(by, as_index=False, sort=False)[["clicks", "impressions", "places"]].sum()
        cells: dict[str, list[str]] = {}
        for name in by:
            cells[name] = {
                "date": lambda: [self.day(d) for d in sums["date"]],
                "page": lambda: [self.prefix + self.path(page) for page in sums["page"]],
                "query": lambda: list(sums["query"]),
            }[name]()
        cells["clicks"], cells["impressions"] = ([self.count(int(n)) for n in sums[name]] for name in ("clicks", "impressions"))
        if self.rate:
            rate = sums["clicks"] / sums["impressions"]
            cells["ctr"] = [self.number(f"{100 * v:.2f}") + "%" if self.percent else self.number(f"{v:.4f}") for v in rate]
        cells["position"] = [self.number(f"{v:.2f}") for v in sums["places"] / sums["impressions"]]
        names = list(cells)
        if not fixed:
            Random(self.order).shuffle(names)
        head, body = [self.head(name) for name in names], list(map(list, zip(*(cells[name] for name in names), strict=True)))
        if "units" in self.stains and self.language != "nonsense":
            head = [f"{cell} (sum)" if name in ("clicks", "impressions") else cell for name, cell in zip(names, head, strict=True)]
        if "shuffled" in self.stains:
            Random(self.order).shuffle(body)
        if fixed:
            return [head, *body]
        if "columns" in self.stains:
            head, body = [*head, "No.", "Property", "Notes"], [[*row, str(n + 1), HOST, ""] for n, row in enumerate(body)]
        if stain := self.stains & {"totals first", "totals last"}:
            first = next(name for name in names if name in by)
            sums_of = {"clicks": self.count(int(sums["clicks"].sum())), "impressions": self.count(int(sums["impressions"].sum()))}
            total = ["Total" if name == first else sums_of.get(name, "") for name in names] + [""] * (len(head) - len(names))
            body = [total, *body] if "totals first" in stain else [*body, total]
        return [head, *body]

    def landings(self) -> list[list[str]]:
        """Visits by month over two years, by channel; always with headers that tell."""
        words = WORDS[self.language if self.language != "nonsense" else "trade"]
        rows = [[words[name] for name in ("date", "page", "channel", "sessions", "conversions")]]
        medium = "medium" in self.stains and self.language in ("trade", "nonsense")
        rows[0][2] = "Source / medium" if medium else rows[0][2]
        tracked = "?utm_source=letter" if "tracked" in self.stains else ""
        for month in pd.date_range("2025-08-01", "2026-10-01", freq="MS"):
            for page in PAGES:
                if page not in DEAD:
                    for channel, visits in (
                        ("seekwell / organic" if medium else "organic search", 40),
                        ("letter / email" if medium else "e-mail", 9),
                    ):
                        bare = (self.path(page) if self.visits_bare else self.prefix + self.path(page)) + (tracked if visits < 40 else "")
                        rows.append([self.day(month.date()), bare, channel, str(visits), self.count(int(page.startswith("/oak")))])
        return rows

    def crawl(self) -> list[list[str]]:
        """The inventory; always with headers that tell, for a bare yes or no needs one."""
        words = WORDS[self.language if self.language != "nonsense" else "trade"]
        names = ["page", "status", "title", "h1", "published"]
        flag = words["noindex"] if self.flag == "noindex" else words["indexable"] if self.flag == "indexable" else "Robots"
        rows = [[*(words[name] for name in names), flag, words["protected"]]]
        for page in PAGES:
            name = page.strip("/").replace("/", " ").title() or "Oakenshaw"
            shut = page in NOINDEX
            said = {
                "noindex": self.yes if shut else self.no,
                "indexable": self.no if shut else self.yes,
                "robots": "noindex, follow" if shut else "index, follow",
            }[self.flag]
            rows.append(
                [
                    self.prefix + self.path(page),
                    "200",
                    f"All about {name}",
                    name,
                    DAYS[self.days](date(2019, 4, 22)),
                    said,
                    self.yes if page in PROTECTED else self.no,
                ]
            )
        rows.append([f"{self.prefix}/img/logo.png", "200", "", "", "", "", ""])
        return rows

    # -- files -----------------------------------------------------------------------------------------------------------------------------

    def write(self, folder: Path) -> None:
        """Write all files of the dress."""
        tables = self.search()
        (folder / "data").mkdir(parents=True)
        if self.package == "zip":
            with zipfile.ZipFile(folder / "data" / "all.zip", "w") as archive:
                for name, rows in tables.items():
                    archive.writestr(f"{name}.csv", self._text(rows).encode("utf-8"))
        else:
            for name, rows in tables.items():
                self._file(folder / "data", name, rows)
        (folder / "visits.csv").write_bytes(self._text(self.landings()).encode(self.encoding))
        if self.crawled:
            inventory = self.crawl()
            (folder / "crawl.csv").write_bytes(self._text([row[:-1] for row in inventory]).encode(self.encoding))
            pages = [[row[0], row[-1]] for row in inventory[:-1]]
            (folder / "keep.csv").write_bytes(self._text(pages).encode(self.encoding))

    def _text(self, rows: Iterable[list[str]]) -> str:
        out = io.StringIO()
        quoting = csv.QUOTE_ALL if "quotes" in self.stains else csv.QUOTE_MINIMAL
        rows = list(rows)
        if "header again" in self.stains:
            rows.insert(len(rows) // 2, rows[0])
        if "padded" in self.stains and self.delimiter != "\t":
            rows = [[f" {cell} " for cell in row] for row in rows]
        end = (self.delimiter if "trailing" in self.stains else "") + ("\r\n" if "crlf" in self.stains else "\n")
        csv.writer(out, delimiter=self.delimiter, lineterminator=end, quoting=quoting).writerows(rows)
        text = out.getvalue()
        return text.replace("\n", "\n\n", 40) if "empty lines" in self.stains else text

    def _file(self, folder: Path, name: str, rows: list[list[str]]) -> None:
        text = ("# Oakenshaw\n# made by hand\n\n" if self.preamble else "") + self._text(rows)
        text += "\nMade on 3 November by the wood desk\n" if "footer" in self.stains else ""
        if self.package == "gzip":
            (folder / f"{name}.csv.gz").write_bytes(gzip.compress(text.encode(self.encoding)))
        elif self.package == "xlsx":
            with xlsxwriter.Workbook(folder / f"{name}.xlsx", {"strings_to_numbers": False}) as book:
                sheet = book.add_worksheet("Data")
                for number, row in enumerate(rows):
                    sheet.write_row(number, 0, row)
        elif self.package in ("jsonl", "answer"):
            head, body = rows[0], rows[1:]
            objects = [dict(zip(head, row, strict=True)) for row in body]
            if self.package == "jsonl":
                (folder / f"{name}.jsonl").write_text("\n".join(json.dumps(one, ensure_ascii=False) for one in objects), "utf-8")
            else:
                for number, start in enumerate(range(0, len(objects), 9000)):
                    (folder / f"{name} p{number}.json").write_text(
                        json.dumps({"rows": objects[start : start + 9000]}, ensure_ascii=False), "utf-8"
                    )
        elif self.package == "split":
            middle = len(rows) // 2
            (folder / f"{name} a.csv").write_bytes(self._text(rows[:middle]).encode(self.encoding))
            (folder / f"{name} b.csv").write_bytes(self._text([rows[0], *rows[middle:]]).encode(self.encoding))
        else:
            (folder / f"{name}.csv").write_bytes(text.encode(self.encoding))

    def expected(self) -> tuple[int, int]:
        """Clicks and impressions of the recent window."""
        first = date(2026, 8, 1) if self.grain == "monthly" else RECENT[0]
        rows = TRUTH[TRUTH["date"] >= first]
        return int(rows["clicks"].sum()), int(rows["impressions"].sum())
