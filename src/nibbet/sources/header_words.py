"""What the words of a header say: which column it names, what else it may name, and what a table counts that is no search."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache, lru_cache

from nibbet.kinds import TABLES, Column

#: letters with a bar or without their dot, which Unicode does not decompose
BARRED = str.maketrans("ıłøđ", "ilod")


def words_of(header: str) -> list[str]:
    """The words of a header without case, accents or punctuation."""
    split = re.sub(r"(?<=[a-z])(?=[A-Z])", " ", header)
    plain = "".join(c for c in unicodedata.normalize("NFKD", split.casefold().translate(BARRED)) if not unicodedata.combining(c))
    return re.findall(r"[^\W_]+", unicodedata.normalize("NFC", plain))


#: header words that restrict a count to a part
PART_ONLY = {"new", "returning", "neue", "wiederkehrende", "nouveaux", "nuevos", "recurrentes", "nuovi", "nieuwe", "first", "unique"}


@dataclass(frozen=True)
class _Phrase:
    """Header words of a column: the words, their stems, their weight, and whether their script has no blanks."""

    words: list[str]
    stems: frozenset[str]
    weight: float
    is_joined: bool


@cache
def _phrases(column: Column) -> list[_Phrase]:
    names = [words_of(words) for words in (column.name.replace("_", " "), *column.words)]
    return [
        _Phrase(words, frozenset(word.rstrip("s") for word in words), 1.0 - 0.001 * order, any(ord(c) > 0x2E80 for c in words[0]))
        for order, words in enumerate(names)
        if words
    ]


@lru_cache(maxsize=20_000)
def header_score(header: str, column: Column) -> float:
    """0 to 1: how well the header words name the column."""
    have = words_of(header)
    stems, joined = {word.rstrip("s") for word in have}, "".join(have)
    part_words = PART_ONLY & set(have) if column.type == "count" else set()
    best = 0.0
    for phrase in _phrases(column):
        if joined == "".join(phrase.words):  # also where words are written as one, or apart
            return phrase.weight
        if part_words.difference(phrase.words):
            continue
        if phrase.stems <= stems:
            best = max(best, phrase.weight * (0.55 + 0.35 * len(phrase.words) / len(have)))
        elif phrase.is_joined and phrase.words[0] in joined:
            best = max(best, phrase.weight * 0.7)
    return best


#: score from which a header names a column, if with other words
NAMED = 0.7
#: headers of sums of money, which are no positions and no counts
MONEY = re.compile(
    r"(?i)revenue|sales|value|amount|price|income|profit|margin|turnover|\bfees?\b|budget|umsatz|erl.s|preis|wert|betrag|honorar|chiffre|ventes|prix|valeur|montant|"
    r"ingreso|venta|precio|valor|importe|fatturat|ricav|prezzo|omzet|prijs|receita|pre.o|int.kt|pris|[$€£¥]|売上|価格|收入|价格|выручка|цена"
)
#: columns for the day or month of a row, or of publication, and words of other days
DAYS_OF_ROWS = ("date", "month", "published")
OTHER_DAYS = frozenset(
    "due deadline last latest next expires expiry expiration crawled seen visited opened closed sent reminder fallig zuletzt letzte letzter letztes nachste "
    "gesehen besucht gepruft derniere dernier prochaine echeance vu ultima ultimo proxima proximo vencimiento visto scadenza laatst laatste volgende senast seneste ostatnio "
    "ostatnia последний 最終 最后".split()
)
#: words of counts beside sessions that are no conversions
NOT_CONVERTED = frozenset(
    "scroll scrolls scrolled exit exits error errors rage dead comment comments 404 hits bots fehler kommentare ausstiege erreurs commentaires sorties errores comentarios "
    "salidas errori commenti uscite fouten reacties 错误 エラー ошибки".split()
)
#: words of texts beside days that are not those of publication
REMARKS = frozenset(
    "comment comments review reviews ticket tickets task tasks kommentar kommentare bewertung aufgabe commentaire commentaires avis comentario comentarios commento commenti reactie "
    "reacties kommentarer komentarz komentar komentare kommentti yorum コメント 댓글 评论 комментарий".split()
)
#: words of kinds of results or of queries, and all words of texts beside clicks that are no queries
KINDS = frozenset(
    "appearance feature segment category group type darstellung kategorie gruppe apparence categorie groupe apariencia categoria grupo aparencia aspecto aspetto gruppo weergave "
    "groep utseende kategori grupp kategoria grupa 見え方 外观".split()
)
NOT_ASKED = KINDS | set(
    "item product offer partner author artikel article produkt produit producto articulo produto prodotto autor auteur autore forfattare".split()
)


@lru_cache(maxsize=20_000)
def named_columns(header: str) -> frozenset[str]:
    """The names of the columns, of any kind of table, that a header names."""
    whole = " ".join(word for word in words_of(header) if word not in PART_ONLY)  # "new users" counts users
    return frozenset(column.name for columns in TABLES.values() for column in columns if header_score(whole, column) >= NAMED)


#: columns of numbers and flags: a column of texts under such a header has another meaning
OF_NUMBERS = frozenset(column.name for columns in TABLES.values() for column in columns if column.type in ("count", "number", "flag"))


#: words that turn the meaning of a header
NEGATIONS = frozenset("not no non nicht kein keine pas niet geen inte ikke nie nao nem ei".split())


def is_negated(header: str) -> bool:
    """Whether a header denies what it names, as "Not indexed"."""
    return not NEGATIONS.isdisjoint(words_of(header))


def is_denied(header: str, column: Column) -> bool:
    """Whether the words of a header say that it is no such column, though its values may be of the type."""
    words = OTHER_DAYS if column.name in DAYS_OF_ROWS else KINDS if column.name == "query" else frozenset[str]()
    return not words.isdisjoint(words_of(header))


#: words and phrases, in lower case without accents, one of which shows what a table with clicks counts
OF_CLICKS = {
    "ads": "cost|costs|spend|cpc|cpm|cost per click|campaign|campaigns|ad|ads|ad group|adgroup|match type|bid|kosten|kampagne|kampagnen|anzeigengruppe|anzeige|"
    "cout|couts|depense|depenses|campagne|groupe annonces|annonce|coste|costes|gasto|campana|campanas|grupo de anuncios|anuncio|costo|costi|spesa|campagna|"
    "gruppo di annunci|annuncio|advertentie|advertentiegroep|custo|custos|campanha|grupo de anuncios|kostnad|kampanj|annons|omkostning|annoncegruppe|koszt|kampania|"
    "reklama|расход|расходы|стоимость|кампания|費用|キャンペーン|広告|费用|广告|maliyet|kampanya|kampanja|kulut|kustannus|kustannukset|mainos|mainosryhma|naklady|kampan|"
    "sestava|koltseg|kampany|hirdetes|campanie|anunt|캠페인|비용|광고|κοστος|καμπανια|kampanje|annonse|разходи|витрати|кампанія|推广计划|活动",
    "mails": "opens|opened|open rate|recipients|delivered|unsubscribes|unsubscribed|offnungen|empfanger|abmeldungen|ouvertures|destinataires|desabonnements|aperturas|"
    "destinatarios|bajas|aperture|destinatari|ontvangers|geopend|mottagare|modtagere|mottakere|odbiorcy|otwarcia|vastaanottajat|avaukset|prijemci|otevreni|"
    "alicilar|acilmalar|cimzettek|megnyitasok|destinatarios|aberturas|получатели|открытия|配信数|開封数|开信数|수신자",
    "posts": "likes|shares|followers|reposts|reach|reichweite|portee|alcance|abonnes|seguidores",
}
#: the same for a table of queries with a volume
OF_SEARCHES = {
    "requests": "hits|bot hits|requests|zugriffe|requetes serveur|peticiones|richieste",
    "searches within the site": "exits|search exits|refinements|search refinements|results pageviews|results page views|ausstiege|sorties|salidas|internal search|"
    "site search|interne suche|suche auf der website|recherche interne|recherches internes|busqueda interna|busquedas internas|ricerca interna|ricerche interne|"
    "intern zoeken|zoeken op de site|intern sokning|intern sogning|internt sok|busca interna|pesquisa interna|wyszukiwanie wewnetrzne|sivustohaku|interni hledani|belso kereses|site ici arama|내부 검색|サイト内検索|站内搜索|поиск по сайту",
}
#: the same for a table with visits
OF_VISITS = {
    "visitors of tests": "experiment|experiments|variant|variants|variante|varianten|variation|variations|experimento|esperimento|wariant|varianta|variantti|varyant|변형|バリエーション|実験|эксперимент",
    "requests for addresses that fail": "missing address|missing page|missing url|page not found|pages not found|not found|404|fehlende adresse|fehlende seite|nicht gefunden|"
    "introuvable|page manquante|no encontrada|no encontrado|non trovata|non trovato|niet gevonden|nao encontrada|hittades inte",
}


def counts_else(headers: Sequence[Sequence[str]], words: dict[str, str]) -> tuple[str, int] | None:
    """What a table counts, and the column that shows it; None where none does.

    Args:
        headers: the words of each header; words: OF_CLICKS, OF_SEARCHES or OF_VISITS.
    """
    for what, text in words.items():
        phrases = [phrase.split() for phrase in text.split("|")]
        for place, have in enumerate(headers):
            if any(set(phrase) <= set(have) for phrase in phrases):
                return what, place
    return None
