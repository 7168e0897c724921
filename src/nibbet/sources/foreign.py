"""Header words of tables that count something else than searches: clicks of ads, mails or posts, and searches within a site."""

from __future__ import annotations

from collections.abc import Sequence

#: words and phrases, in lower case without accents, one of which shows what a table with clicks counts
OF_CLICKS = {
    "ads": "cost|costs|spend|cpc|cpm|cost per click|campaign|campaigns|ad|ads|ad group|adgroup|match type|bid|kosten|kampagne|kampagnen|anzeigengruppe|anzeige|"
    "cout|couts|depense|depenses|campagne|groupe annonces|annonce|coste|costes|gasto|campana|campanas|grupo de anuncios|anuncio|costo|costi|spesa|campagna|"
    "gruppo di annunci|annuncio|advertentie|advertentiegroep|custo|custos|campanha|grupo de anuncios|kostnad|kampanj|annons|omkostning|annoncegruppe|koszt|kampania|"
    "reklama|расход|стоимость|кампания|費用|キャンペーン|広告|费用|广告|maliyet|kampanya",
    "mails": "opens|opened|open rate|recipients|delivered|unsubscribes|unsubscribed|offnungen|empfanger|abmeldungen|ouvertures|destinataires|desabonnements|aperturas|"
    "destinatarios|bajas|aperture|destinatari|ontvangers|geopend|mottagare",
    "posts": "likes|shares|followers|reposts|reach|reichweite|portee|alcance|abonnes|seguidores",
}
#: the same for a table of queries with a volume
OF_SEARCHES = {
    "requests": "hits|bot hits|requests|zugriffe|requetes serveur|peticiones|richieste",
    "searches within the site": "exits|search exits|refinements|search refinements|results pageviews|results page views|ausstiege|sorties|salidas",
}


def counts_else(headers: Sequence[Sequence[str]], words: dict[str, str]) -> tuple[str, int] | None:
    """What a table counts, and the column that shows it; None where none does.

    Args:
        headers: the words of each header; words: OF_CLICKS or OF_SEARCHES.
    """
    for what, text in words.items():
        phrases = [phrase.split() for phrase in text.split("|")]
        for place, have in enumerate(headers):
            if any(set(phrase) <= set(have) for phrase in phrases):
                return what, place
    return None
