"""Words that stand in cells: for totals, for missing values, for yes and no, for channels."""

from __future__ import annotations

TOTAL_WORDS = set(
    "total|totals|gesamtergebnis|total general|total général|totale complessivo|eindtotaal|totalsumma|subtotal|sub total|zwischensumme|sous-total|subtotale|subtotaal|sum|summe|gesamt|grand total|insgesamt|totale|somme|suma|totaal|summa|i alt|razem|合計|总计|итого".split(
        "|"
    )
)
NO_VALUE = set("|-|--|—|–|n/a|na|null|none|nan|undefined".split("|"))
#: and the errors of spreadsheets in several languages
NO_VALUE |= set(
    "#n/a #na #nv #n/d #div/0! #ref! #value! #name? #num! #null! #wert! #bezug! #valeur! #valor! #¡div/0! #¡valor! #¡ref! #valore! #rif!".split()
)

YES_WORDS = set(
    "yes y true t 1 ja j oui o si sí sì sim s x ✓ ✔ wahr vrai vero verdadero verdade tak da ano igen evet kyllä はい 可 有 ○ 〇 是 да 예 ναι on".split()
)
NO_WORDS = set(
    "no n false f 0 nein non não nao nie nee nej nei ei ne falsch faux falso net hayır いいえ 不可 無 × 否 нет 아니요 아니오 όχι nem nu off".split()
)
#: header words with which a yes means that a page may be indexed; with others a yes blocks it
INDEXABLE_WORDS = (
    "indexable",
    "be indexed",
    "in the index",
    "in den index",
    "indexabil",
    "indexier",
    "indicizz",
    "indexeer",
    "indexer",
    "indeks",
    "indexov",
    "indexel",
    "dizine",
    "색인",
    "ευρετηρι",
    "indexavel",
    "indexado",
    "indexacion",
    "indexation",
    "indexabilite",
    "インデックス",
    "索引",
    "индекс",
)
KEPT_OUT_WORDS = ("noindex", "no index", "not be indexed", "not to be indexed", "not in the index", "nicht in den index", "excluded", "blocked", "ausgeschlossen", "gesperrt", "exclu", "excluid", "esclus", "uitgesloten")

#: channels and media of unpaid search, and words that make another channel: "organic social", "paid search", search within the site
ORGANIC = (
    r"organi|orgáni|orgâni|органи|οργανικ|\bnatur(?:al|el|lig)|\bseo\b|search|\bsuch|unbezahlt|recherche|pesquisa|moteur|busca|búsqueda|ricerca|motori|zoek|\bsök|\bsøg|\bsøk|"
    r"szuk|haku|arama|hledá|keres|естествен|поиск|自然|オーガニック|検索|搜索|자연|검색"
)
OTHER_CHANNEL = (
    r"paid|(^|[^n])bezahlt|payant|\bpag[oa]|betald|betaald|betalt|płatn|ücretli|платн|реклам|広告|有料|付费|유료|\bads?\b|advert|anzeig|annonc|\bcpc\b|\bppc\b|"
    r"\bsem\b|sponsor|display|social|sozial|sociaux|społeczn|социал|ソーシャル|社交|소셜|video|vidéo|видео|動画|shopping|e-?mail|letter|referral|verweis|\bintern(a|e|al|o)?\b|on-?site"
)
#: any channel, whatever its kind
CHANNEL = rf"{ORGANIC}|{OTHER_CHANNEL}|direct|direkt|referr|verweis|other|sonstig|mail"
