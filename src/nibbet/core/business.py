"""Facts about the business: what it sells, to whom, its rivals, its tone and what it does not want."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    import pandas as pd

#: the parts of the notes, and words of the headings that introduce them
PARTS = {
    "unwanted": "not wanted|unwanted|avoid|exclude|never|nicht|unerwunscht|tabu|exclu|indesirable|no queremos|excluir|evitare",
    "sells": "sell|offer|product|service|verkauf|angebot|produkt|leistung|vend|offre|produit|ofrece|oferta|producto|prodott|offert|verkoop|aanbod",
    "audience": "for whom|audience|reader|customer|client|zielgruppe|fur wen|kunde|lese|public|lecteur|cliente|publico|pubblico|klant|doelgroep",
    "rivals": "rival|competit|konkurrenz|wettbewerb|concurren|compet",
    "tone": "tone|voice|style|ton|sprache|stil|tono|estilo|stile|toon",
}
MOST_ITEMS, LONGEST = 200, 200


def read_notes(text: str) -> dict[str, list[str]]:
    """The content of a Markdown file by part: list items and lines under headings that name it; other headings are ignored."""
    result: dict[str, list[str]] = {part: [] for part in PARTS}
    part = None
    for line in text.splitlines():
        if heading := re.match(r"\s{0,3}#{1,6}\s+(.+?)[\s#:]*$", line):
            plain = "".join(c for c in unicodedata.normalize("NFKD", heading[1].casefold()) if not unicodedata.combining(c))
            part = next((name for name, words in PARTS.items() if re.search(rf"\b(?:{words})", plain)), None)
        elif part is not None and (item := re.sub(r"^\s*(?:[-*+]|\d+[.)])\s+", "", line).strip(" .;\t")):
            result[part] += [one.strip() for one in ([item] if part == "tone" else re.split(r"\s*[;,]\s*", item)) if one.strip()]
    return {name: [item[:LONGEST] for item in items[:MOST_ITEMS]] for name, items in result.items()}


def business(about: Mapping[str, Any]) -> pd.DataFrame:
    """part, text: the facts about the business in the settings, one item a row.

    Args:
        about: items by name, as in [about].
    """
    import pandas as pd

    names = {"sells": "sells", "audience": "for", "rivals": "rivals", "tone": "tone", "unwanted": "not wanted"}
    rows = [(label, item) for name, label in names.items() for item in about.get(name, [])]
    return pd.DataFrame(rows, columns=["part", "text"], dtype="str")
