"""What a table is and what its columns mean, told from words and values alone."""

from __future__ import annotations

import contextlib
from datetime import date, datetime

import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st

import nibbet
from nibbet.errors import SourceError
from nibbet.sources.conventions import day_of_text, sample_days, sample_mark, sample_style
from nibbet.sources.guess import guess_kind
from nibbet.sources.headers import header_row
from nibbet.sources.recognise import read_as
from nibbet.sources.sheets import Sheet, table_of_rows


def sheet(header: str, *rows: str) -> Sheet:
    return table_of_rows("t.csv", header.split("|"), [row.split("|") for row in rows] * 8, "")


@pytest.mark.parametrize(("header", "row", "kind"), [
    ("Page|Query|Clicks|Impressions", "/a/|canoe|1|9", "search"),
    ("Zielseite|Klicks|Einblendungen|Rang", "/a/|1|9|2,5", "search"),
    ("Requête|Clics|Affichages", "canoë|1|9", "search"),
    ("検索クエリ|クリック数|表示回数|掲載順位", "カヌー|1|9|2.5", "search"),
    ("Landing page|Channel|Visits|Orders", "/a/|direct|5|0", "landings"),
    ("Einstiegsseite|Kanal|Sitzungen|Umsatz", "/a/|Direkt|5|0,00", "landings"),
    ("Address|Status code|Title|H1|Word count", "https://s.example/a/|200|A|A|300", "crawl"),
    ("Url|Written for|Updated", "/a/|canoe|2026-01-01", "editorial"),
    ("From|To|Anchor", "https://s.example/a/|https://s.example/b/|b", "links"),
    ("From|To|Anchor", "https://other.example/x|https://s.example/b/|b", "backlinks"),
    ("From|To|Anchor", "https://s.example/a/|/b/|b", "links"),
    ("Query|Rank|Url|Title", "canoe|1|https://s.example/a/|A", "results"),
    ("Search term|Month|Searches", "canoe|2026-05|900", "demand"),
    ("timestamp|path|status|user agent", "2026-10-10T10:00:00|/a/|200|Agent", "hits"),
    ("Name|Phone", "Ann|123456", None),
])  # fmt: skip
def test_kind_is_told(header: str, row: str, kind: str | None) -> None:
    found = guess_kind(sheet(header, row))
    assert (found.kind if found else None) == kind


@pytest.mark.parametrize(("header", "rows", "kind", "columns"), [  # headers that nobody prepared, and old addresses with where they lead
    ("Διεύθυνση|Κωδικός|Τίτλος", [f"https://s.example/{n}|{200 if n else 404}|Ελιά {n} και λάδι" for n in range(9)], "crawl",
     {"page": "Διεύθυνση", "status": "Κωδικός", "title": "Τίτλος"}),
    ("Ημέρα|Σελίδα|Φορές|Άλλα", [f"2026-05-{day:02}|/{page}|{3 + page}|0" for day in range(1, 9) for page in range(3)], "landings",
     {"page": "Σελίδα", "date": "Ημέρα", "sessions": "Φορές"}),
    ("Source|Target|Status", [f"http://old.example/{n}.asp|https://s.example/{n}|301" for n in range(9)], "crawl",
     {"page": "Source", "redirect_to": "Target", "status": "Status"}),
    ("Source|Target|Status", [f"https://s.example/{n % 3}|https://s.example/{n}|301" for n in range(9)], "links", {"source": "Source"}),
    ("URL|Author|Publish date|Main keyword|Do not delete?|Word count", [f"/{n}|Ann|2021-04-1{n}|topic {n}|No|900" for n in range(9)],
     "editorial", {"target_query": "Main keyword", "protected": "Do not delete?"}),
    ("Type|Source|Destination|Anchor|Status|Target|Place", [f"Link|https://s.example/{n}|https://s.example/{n + 1}|x{n}|200||Main" for n in range(9)],
     "links", {"target": "Destination"}),
    ("Referring page|Rating|Target URL|Anchor", [f"https://blog{n}.example/p|{9 * n % 80}|https://s.example/|petal" for n in range(9)],
     "backlinks", {"from_url": "Referring page", "page": "Target URL"}),
    ("Old URL|New URL", [f"/{n}.asp|/{n}" for n in range(9)], "crawl", {"page": "Old URL", "redirect_to": "New URL"}),
    ("ts|url|term|clicks|impressions", [f"{1793660400 - 86400 * n}|/{n}|owl {n}|{n}|9" for n in range(9)], "search", {"date": "ts", "query": "term"}),
    ("Einstiegsseite|Standardkanal|Sitzungen|Durchschn. Sitzungsdauer", [f"/{n}|E-Mail|{n}|00:01:{n + 10}" for n in range(9)], "landings",
     {"channel": "Standardkanal", "seconds_each": "Durchschn. Sitzungsdauer"}),
    ("Month|Landing page|Traffic type|Sessions|Wins", [f"2026-0{n}|/{n}|{'Search' if n % 2 else 'Mail'}|{90 + n}|{n}" for n in range(1, 9)], "landings",
     {"date": "Month", "sessions": "Sessions", "conversions": "Wins"}),
    ("Landing page|Channel|Sessions|New users", [f"/{n}|{'Search' if n % 2 else 'Mail'}|{90 + n}|{70 + n}" for n in range(1, 9)], "landings",
     {"channel": "Channel", "sessions": "Sessions"}),
    ("Landing page|Default channel|Sessions|Thanks seen", [f"/{n}|{'Search' if n % 2 else 'Mail'}|{90 + n}|{n}" for n in range(1, 9)], "landings",
     {"channel": "Default channel", "sessions": "Sessions", "conversions": "Thanks seen"}),
    ("Landing page|Sessions|Applied", [f"/{n}|{90 + n}|{n % 2}" for n in range(1, 9)], "landings", {"sessions": "Sessions", "conversions": "Applied"}),
    ("Date|Page|Page views|Visitors", [f"2026-05-0{n}|/{n}|{200 + n}|{90 + n}" for n in range(1, 9)], "landings",
     {"sessions": "Visitors", "views": "Page views"}),
    ("Seite|Seitenaufrufe|Besucher", [f"/{n}|{200 + n}|{90 + n}" for n in range(1, 9)], "landings", {"sessions": "Besucher", "views": "Seitenaufrufe"}),
    ("Page|Views", [f"/{n}|{200 + n}" for n in range(1, 9)], "landings", {"sessions": "Views"}),
    ("Address|Answer|Name", [f"/{n}|{'404 Not Found' if n % 3 else 'HTTP/1.1 200 OK'}|Owl {n}" for n in range(9)], "crawl", {"status": "Answer"}),
    ("URL|ステータス|見出し1|インデックス", [f"/{n}|200|梅 {n}|可" for n in range(9)], "crawl",
     {"h1": "見出し1", "noindex": "インデックス"}),
    ("Resource|Answer|May be indexed|Went live", [f"/{n}|200|{'no' if n % 3 else 'yes'}|2024-01-1{n}" for n in range(9)], "crawl",
     {"noindex": "May be indexed", "published": "Went live"}),
    ("Article|Words typed|Appearances|Visits from search|Mean place", [f"/{n % 3}|bus fare {n}|9{n}|{n}|{n}.5" for n in range(9)], "search",
     {"page": "Article", "query": "Words typed", "impressions": "Appearances"}),
    ("Week beginning|Entry|Came by|Visits", [f"2026-05-0{n}|/{n % 2}|{('Organic', 'Social & direct')[n % 2]}|9{n}" for n in range(1, 9)], "landings",
     {"channel": "Came by"}),
    ("Month of year|Page path|Sessions", [f"2026{n:02}|/{n % 2}|9{n}" for n in range(1, 9)], "landings", {"date": "Month of year"}),
    ("Page|Query|Clicks|Impressions", [f"/{n}|seed {n}|20260{n}|30260{n}" for n in range(1, 9)], "search", {"clicks": "Clicks"}),
    ("Link|Post title|Length|Date posted", [f"/{n}|Rye loaf {n}|{900 + n}|202{n % 5}-01-11" for n in range(1, 9)], "editorial",
     {"published": "Date posted"}),
    ("Web address|Response|Headline|First online", [f"/{n}|200|Flood alert|0{n} May 2021" for n in range(1, 9)], "crawl",
     {"title": "Headline", "published": "First online"}),
    ("Page d'entrée|Canal|Visites|Visites avec interaction", [f"/{n}|Direct|9{n}|{n}" for n in range(9)], "landings",
     {"sessions": "Visites", "engaged_sessions": "Visites avec interaction"}),
    ("URL|Author|Published|Title", [f"/{n}|{'Ann' if n % 2 else 'Bob'}|2024-01-1{n}|All about owls {n}" for n in range(9)], "editorial",
     {"page": "URL", "published": "Published"}),
])  # fmt: skip
def test_values_tell_what_a_table_is(header: str, rows: list[str], kind: str, columns: dict[str, str]) -> None:
    found = guess_kind(table_of_rows("t.csv", header.split("|"), [row.split("|") for row in rows], ""))
    assert found is not None
    assert found.kind == kind
    assert {name: found.matches[name].header for name in columns} == columns


@pytest.mark.parametrize(("header", "row"), [  # what else lies in the folder of an analyst: it counts no clicks of search results
    ("Day|Campaign|Landing page|Clicks|Impressions|Cost", "2026-05-01|Spring|https://s.example/{n}|{n}|9{n}|1.2{n}"),
    ("Keyword|Match type|Clicks|Impressions|Avg. CPC", "seed {n}|exact|{n}|9{n}|0.4{n}"),
    ("Suchbegriff|Kampagne|Klicks|Impressionen|Kosten", "Samen {n}|Frühling|{n}|9{n}|1,2{n}"),
    ("Issue date|Link|Clicks|Opens", "2026-05-0{n}|https://s.example/{n}|{n}|50{n}"),
    ("Post|Published|Link|Impressions|Clicks|Likes", "Our tip {n}|2026-05-0{n}|https://s.example/{n}|90{n}|{n}|3"),
    ("Search term|Total unique searches|Results pageviews|Search exits", "seed {n}|4{n}|1{n}|12%"),
    ("id|title|link|price|image link", "S{n}|Tomato seeds {n}|https://s.example/{n}|3.99 GBP|https://s.example/i/{n}.jpg"),
    ("Domain|Links|First seen", "site{n}.example|{n}|2026-05-0{n}"),
    ("Missing address|Hits|Referrer|Last seen", "/old/{n}|{n}|https://s.example/{n}|2026-05-0{n}"),
    ("Path|Hits|Bot hits|Status 404", "/p/{n}|9{n}|{n}|{n}"),
    ("Page|Cost of writing|Words|Author", "/p/{n}|20{n}|90{n}|Ann"),
    ("Page|Author fee|Words", "/p/{n}|20{n}|90{n}"),
    ("Appearance|Clicks|Impressions|Position", "Result {n}|{n}|9{n}|2.{n}"),
    ("Aspetto dei risultati di ricerca|Clic|Impressioni|Posizione", "Video {n}|{n}|9{n}|2.{n}"),
    ("Tulostyyppi|Klikkaukset|Näyttökerrat|Sijainti", "Video ja kuva|{n}|9{n}|2.{n}"),
    ("Feed item|Clicks|Impressions", "Tomato {n}|{n}|9{n}"),
    ("Kampanja|Avainsana|Klikkaukset|Näyttökerrat|Kulut", "Kevät|siemen {n}|{n}|9{n}|1.2{n}"),
    ("Lettre d'information|Date d'envoi|Destinataires|Ouvertures|Clics", "Lettre {n}|2026-05-0{n}|90{n}|50{n}|{n}"),
    ("Recherche interne|Nombre de recherches|Résultats", "graine {n}|{n}|3"),
    ("Experiment|Variant|Page|Visitors|Conversions", "Menu|B|/p/{n}|90{n}|{n}"),
    ("Fehlende Adresse|Aufrufe|Zuletzt", "/alt/{n}|9{n}|2026-05-0{n}"),
    ("Date|URL|Term|Traffic|Views|Rank", "2026-05-0{n}|/p/{n}|oak {n}|{n}|9{n}|2.{n}"),
    ("Date|Page|Query|Impressions|CTR|Position", "2026-05-0{n}|/p/{n}|oak {n}|9{n}|2.{n}%|{n}.5"),
    ("Page|Comment|Author|Date", "/p/{n}|nice advice number {n}|Ann{n}|2026-05-0{n}"),
])  # fmt: skip
def test_what_counts_something_else_is_no_search(header: str, row: str) -> None:
    found = guess_kind(table_of_rows("t.csv", header.split("|"), [row.format(n=n).split("|") for n in range(1, 9)], ""))
    assert found is None


@pytest.mark.parametrize(("header", "row", "kind", "columns"), [
    ("Keyword|URL|Position|Previous position|Volume", "oak {n}|https://s.example/{n}|{n}|1{n}|9{n}0", "results", {"rank": "Position"}),
    ("Keyword|Volume|Difficulty|CPC|Target URL", "oak {n}|9{n}0|{n}|0.4{n}|https://s.example/{n}", "demand", {"volume": "Volume"}),
    ("Page|Clicks|Impressions|Revenue", "/p/{n}|{n}|9{n}|1.2{n}", "search", {"position": None}),
    ("URL|Visits|Last visit", "/p/{n}|{n}|2026-05-0{n}", "landings", {"date": None}),
    ("Page|Scroll depth 90%|Views", "/p/{n}|{n}|9{n}", "landings", {"sessions": "Views", "conversions": None}),
    ("Page|Rage clicks|Sessions|New users", "/p/{n}|{n}|9{n}|{n}", "landings", {"sessions": "Sessions", "conversions": None}),
    ("Topic|Keyword|Search volume|Due date", "Oak {n}|oak seed {n}|9{n}0|2026-05-0{n}", "demand", {"query": "Keyword", "month": None}),
    ("URL|Last looked at|Answer of the engine", "https://s.example/{n}|2026-05-0{n}|Seen, not indexed", "crawl",
     {"index_state": "Answer of the engine", "noindex": None}),
    ("Keyword|Position|URL|Clicks", "oak {n}|{n}|https://s.example/{n}|9{n}", "results", {"rank": "Position"}),
    ("Page|Product keyword|Clicks|Impressions", "/p/{n}|oak {n}|{n}|9{n}", "search", {"query": "Product keyword"}),
    ("Period end|Page|Query|Clicks|Impressions", "2026-05-0{n}|/p/{n}|oak {n}|{n}|9{n}", "search", {"date": "Period end"}),
    ("Keyword|Date checked|Rank|URL", "oak|2026-05-01|{n}|https://s.example/{n}", "results", {"date": "Date checked"}),
    ("URL|Status code|Title|Last crawled on", "https://s.example/{n}|200|Oak {n}|2026-05-01", "crawl", {"crawled": "Last crawled on"}),
    ("URL|Published|Last update of page", "/p/{n}|2025-05-0{n}|2026-05-0{n}", "editorial", {"updated": "Last update of page"}),
    ("URL|Visits|Last visit date", "/p/{n}|9{n}|2026-05-0{n}", "landings", {"date": None}),
    ("Page|Query|Clicks|Impressions|Zweck", "/p/{n}|oak {n}|{n}|9{n}|{n}.5", "search", {"position": None}),
    ("Date|Page|Query|Clicks|Impressions", "46085|/p/{n}|oak {n}|{n}|9{n}", "search", {"date": "Date"}),
    ("Landing page|Sessions|Conversions", "/p/{n}|9{n}|#DIV/0!", "landings", {"conversions": "Conversions"}),
    ("Página|Páginas vistas|Visitantes", "/p/{n}|90{n}|{n}", "landings", {"sessions": "Visitantes", "views": "Páginas vistas"}),
    ("Страница|Просмотры|Посетители", "/p/{n}|90{n}|{n}", "landings", {"sessions": "Посетители"}),
    ("Page|Titre|Publié le|Modifié le|Requête cible", "/p/{n}|T {n}|2026-05-0{n}|2026-05-0{n}|grain {n}", "editorial", {"target_query": "Requête cible"}),
    ("URL|Title|Author|Published|Clicks|Sessions", "/p/{n}|Oak {n}|Ann|2026-05-0{n}|{n}|{n}", "editorial", {"published": "Published"}),
])  # fmt: skip
def test_no_column_is_what_its_header_denies(header: str, row: str, kind: str, columns: dict[str, str | None]) -> None:
    found = guess_kind(table_of_rows("t.csv", header.split("|"), [row.format(n=n).split("|") for n in range(1, 9)], ""))
    assert found is not None
    assert found.kind == kind
    assert {name: found.matches[name].header if name in found.matches else None for name in columns} == columns


TONGUES = {
    "search": ["Data|Página|Consulta|Cliques|Impressões|CTR|Posição", "Tarih|Sayfa|Sorgu|Tıklamalar|Gösterimler|TO|Konum",
               "Дата|Страница|Запрос|Клики|Показы|CTR|Позиция", "날짜|페이지|검색어|클릭수|노출수|CTR|게재순위", "Ημερομηνία|Σελίδα|Ερώτημα|Κλικ|Εμφανίσεις|CTR|Θέση"],
    "landings": ["Data|Página de destino|Canal|Sessões|Conversões", "Tarih|Açılış sayfası|Kanal|Oturumlar|Dönüşümler",
                 "Дата|Страница входа|Канал|Визиты|Конверсии", "날짜|방문 페이지|채널|세션수|전환수", "Datum|Vstupní stránka|Kanál|Návštěvy|Konverze"],
    "crawl": ["Endereço|Código de status|Título|Canônica", "Adres|Durum kodu|Başlık|Standart URL", "Адрес|Код ответа|Заголовок|Канонический URL",
              "주소|상태 코드|제목|표준 URL", "Adresa|Stavový kód|Titulek|Kanonická adresa"],
    "editorial": ["Página|Consulta-alvo|Protegida", "Sayfa|Hedef sorgu|Korumalı", "Страница|Целевой запрос|Защищена", "페이지|목표 검색어|보호됨"],
    "backlinks": ["Página de origem|Página de destino|Texto âncora", "Bağlantı veren sayfa|Hedef sayfa|Bağlantı metni",
                  "Ссылающаяся страница|Целевая страница|Анкор", "대상 페이지|링크 페이지|앵커 텍스트"],
}  # fmt: skip
ROWS = {
    "search": [f"2026-05-0{n + 1}|https://s.example/{n}|oak {n}|{n + 1}|{20 * (n + 1)}|5.0%|{n + 1}.5" for n in range(8)],
    "landings": [f"2026-05-0{n + 1}|https://s.example/{n}|Organic Search|{n + 9}|{n % 3}" for n in range(8)],
    "crawl": [f"https://s.example/{n}|200|Oak {n} guide|https://s.example/{n // 2}" for n in range(8)],
    "editorial": [f"https://s.example/{n}|oak {n}|{'1' if n == 2 else '0'}" for n in range(8)],
    "backlinks": [f"https://x{n}.example/a|https://s.example/{n % 3}|oak" for n in range(8)],
}


@pytest.mark.parametrize("kind", TONGUES)
def test_tables_in_other_tongues_are_told(kind: str) -> None:
    for header in TONGUES[kind]:
        rows = [row.split("|") for row in ROWS[kind]]
        if header.startswith("대상"):  # the other way round
            rows = [[row[1], row[0], row[2]] for row in rows]
        found = guess_kind(table_of_rows("t.csv", header.split("|"), rows, ""))
        assert found is not None, header
        assert found.kind == kind, header
        assert set(found.unused) <= {"TO"}, header
        if kind == "backlinks":
            assert rows[1][found.matches["from_url"].place] == "https://x1.example/a"


def test_values_stand_in_for_words_and_beat_them() -> None:
    found = read_as(sheet("wann|wo|Klicks|Einblendungen|womit", "2026-10-01|/a/|1|9|mobile"), "search").matches
    assert {name: match.header for name, match in found.items()} == {
        "date": "wann", "page": "wo", "clicks": "Klicks", "impressions": "Einblendungen", "device": "womit"}  # fmt: skip
    assert found["page"].confidence < found["clicks"].confidence
    misled = read_as(sheet("Page|Link|Clicks|Impressions", "Our guide|/a/|1|9"), "search").matches
    assert misled["page"].header == "Link", "a page column holds addresses, whatever stands above it"


@pytest.mark.parametrize(("texts", "day"), [
    (["2026-03-04"], date(2026, 3, 4)), (["04.03.2026"], date(2026, 3, 4)), (["04/03/2026", "13/03/2026"], date(2026, 3, 4)),
    (["03/04/2026", "03/13/2026"], date(2026, 3, 4)), (["4 mars 2026"], date(2026, 3, 4)), (["March 4, 2026"], date(2026, 3, 4)),
    (["4. März 2026"], date(2026, 3, 4)), (["20260304"], date(2026, 3, 4)), (["46085"], date(2026, 3, 4)), (["04.03.26"], date(2026, 3, 4)),
    (["2026-03"], date(2026, 3, 1)), (["04/Mar/2026"], date(2026, 3, 4)), (["2026年3月4日"], date(2026, 3, 4)), (["04/04/2026"], date(2026, 4, 4)),
    (["févr. 2026"], date(2026, 2, 1)), (["3 août 2026"], date(2026, 8, 3)), (["15 września 2026"], date(2026, 9, 15)), (["ноябрь 2026"], date(2026, 11, 1)),
    (["KW 44/2026"], date(2026, 10, 26)), (["2026-W44"], date(2026, 10, 26)), (["1793660400000"], date(2026, 11, 3)), (["1793682000"], date(2026, 11, 3)),
    (["01/06/2026 - 07/06/2026", "13/07/2026 - 19/07/2026"], date(2026, 6, 1)), (["06/01/2026 to 06/07/2026", "06/22/2026 to 06/28/2026"], date(2026, 6, 1)),
    (["202608", "202609", "Total"], date(2026, 8, 1)), (["202544", "202609"], date(2025, 10, 27)),
])  # fmt: skip
def test_dates_are_read_by_all_values_of_their_column(texts: list[str], day: date) -> None:
    assert day_of_text(texts, where="t.csv", header="Date")[texts[0]] == day


@given(
    st.lists(st.dates(date(1000, 1, 1), date(2999, 12, 31)), min_size=1, max_size=6),
    st.sampled_from(["%Y-%m-%d", "%Y/%m/%d", "%Y.%m.%d", "%Y%m%d", "%d.%m.%Y", "%d/%m/%Y", "%m/%d/%Y", "%m-%d-%Y", "%d.%m.%y", "%d %b %Y"]),
    st.sampled_from([None, "day first", "month first"]),
    st.integers(1, 6),
)
def test_the_form_that_a_sample_tells_reads_as_all_values_do(days: list[date], form: str, order: str | None, cut: int) -> None:
    texts = [day.strftime(form) for day in days]
    told = sample_days(texts[:cut], texts[cut:], order)
    try:
        found = day_of_text(texts, where="t.csv", header="Date", order=order)
    except SourceError:
        assert told is None, "what all values do not tell, a sample does not"
        return
    if told is not None:
        read = {}
        for text in texts:
            with contextlib.suppress(ValueError):
                read[text] = datetime.strptime(text, told or "%Y-%m-%d").date()
        assert read == found


def test_dates_that_read_two_ways_are_asked_about_and_answered() -> None:
    texts = ["03/04/2026", "05/06/2026", "n/a", "31/31/2026"]
    with pytest.raises(SourceError, match="day first"):
        day_of_text(texts[:3], where="t.csv", header="Date")
    assert day_of_text(texts[:3], where="t.csv", header="Date", order="month first")["03/04/2026"] == date(2026, 3, 4)
    assert "31/31/2026" not in day_of_text(texts, where="t.csv", header="Date", order="day first")


@pytest.mark.parametrize(("cells", "style", "mark"), [
    (["1", "20"], "whole", None), (["1.5", "2"], ".", "."), (["1,5", "2"], ",", ","), (["1,234", "5"], ",", None), (["1,234.5"], "general", "."),
    (["1.234,50"], "general", ","), (["12%"], "general", None), (["0,125"], ",", ","),
])  # fmt: skip
def test_number_styles(cells: list[str], style: str, mark: str | None) -> None:
    assert sample_style(cells) == style
    assert sample_mark(cells) == mark


@pytest.mark.parametrize(("rows", "place"), [
    ([["Page", "Clicks"], ["/a/", "1"]], 0), ([["Report"], ["made by hand"], ["Page", "Clicks"], ["/a/", "1"], ["/b/", "2"]], 2),
    ([["# x"], ["Page", "Clicks"], ["/a/", "1"]], 1), ([["/a/", "1"], ["/b/", "2"]], None), ([[""]], None),
])  # fmt: skip
def test_header_is_found_below_a_preamble(rows: list[list[str]], place: int | None) -> None:
    assert header_row(rows) == place


def test_a_ratio_is_no_count_though_its_header_names_one() -> None:
    rows = [[f"/guides/{n}/", str(n + 3), f"{1 + n / 10:.1f}", f"{n % 9 + 1}.{n % 7 + 1}K"] for n in range(30)]
    sheet = table_of_rows("visits", ["Page", "Sessions", "Sessions per user", "Views"], rows, "")
    read = read_as(sheet, "landings").matches
    assert set(read) >= {"page", "sessions", "views"}
    assert "users" not in read


@pytest.mark.parametrize(("header", "cells", "counts"), [
    ("Nofollow", ["yes", "no", "", "nofollow"], [False, True, True, False]),
    ("rel", ["nofollow noopener", "noopener", "", "ugc"], [False, True, True, False]),
    ("Follow", ["yes", "no", "", "dofollow"], [True, False, False, True]),
])  # fmt: skip
def test_whether_a_link_counts_is_read_with_the_direction_of_its_header(header: str, cells: list[str], counts: list[bool]) -> None:
    home = "https://s.example/"
    links = pd.DataFrame({"source": [f"{home}{n}" for n in range(4)], "target": home, header: cells})
    search = pd.DataFrame({"date": pd.date_range("2026-05-01", periods=9), "page": home, "clicks": 1, "impressions": 9, "position": 2.0})
    site = nibbet.Site(home=home, search=search, links=links)
    assert site.sql("SELECT source, follow FROM links ORDER BY source")["follow"].tolist() == counts
