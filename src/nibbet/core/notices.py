"""Legal notices: pages that the law, not searchers, asks for."""

from __future__ import annotations

from urllib.parse import unquote

import pandas as pd

from nibbet.core.sentences import named
from nibbet.core.words import plain

#: the names of legal notices in addresses and titles, in many languages, in lower case without accents
NAMES = (
    "legal|legal notice|legal information|privacy|privacy policy|privacy notice|privacy statement|data protection|gdpr|cookies|cookie policy|cookie notice|"
    "terms|terms of use|terms of service|terms of sale|terms and conditions|terms conditions|conditions of use|conditions of sale|disclaimer|imprint|"
    "accessibility|accessibility statement|modern slavery statement|returns policy|refund policy|right of withdrawal|complaints procedure|"
    "impressum|datenschutz|datenschutzerklarung|datenschutzhinweise|agb|allgemeine geschaftsbedingungen|nutzungsbedingungen|widerruf|"
    "widerrufsbelehrung|widerrufsrecht|rechtliches|rechtliche hinweise|barrierefreiheit|erklarung zur barrierefreiheit|"
    "mentions legales|politique de confidentialite|confidentialite|cgv|cgu|conditions generales|conditions generales de vente|"
    "conditions generales d utilisation|donnees personnelles|accessibilite|aviso legal|privacidad|politica de privacidad|politica de cookies|"
    "terminos y condiciones|condiciones de uso|condiciones generales|accesibilidad|note legali|informativa privacy|informativa sulla privacy|"
    "termini e condizioni|condizioni di vendita|privacyverklaring|privacybeleid|cookiebeleid|algemene voorwaarden|voorwaarden|"
    "integritetspolicy|kopvillkor|anvandarvillkor|tillganglighet|personvern|personvernerklaering|privatlivspolitik|handelsbetingelser|"
    "tietosuoja|tietosuojaseloste|kayttoehdot|polityka prywatnosci|regulamin|politica de privacidade|termos de uso|termos e condicoes|"
    "ochrana osobnich udaju|obchodni podminky|adatvedelem|aszf|gizlilik politikasi|kullanim kosullari|kvkk|политика конфиденциальности|"
    "プライバシーポリシー|利用規約|特定商取引法に基づく表記|隐私政策|服务条款|개인정보처리방침|이용약관"
).split("|")


def are_notices(pages: pd.DataFrame) -> pd.Series:
    """Whether each page is a legal notice by its name: the last segment of its path, or its title up to the name of the site.

    Args:
        pages: path, title (null where unknown).
    """
    path = pages["path"].str.replace(r"[?#].*$", "", regex=True).str.replace(r"\.[A-Za-z]{2,5}$", "", regex=True)
    last = path.str.extract(r"([^/]*)/*$", expand=False)
    last = last.where(~last.str.contains("%", regex=False), last.map(unquote))
    title = named(pages["title"]).str.replace(r"\s*[|–—:·].*$|\s+-\s.*$", "", regex=True)
    names = plain(pd.Series(NAMES)).to_pylist()
    result: pd.Series = _words(last).isin(names) | _words(title).isin(names)
    return result


def _words(names: pd.Series) -> pd.Series:
    """The words of each name, in lower case without accents, parted by blanks."""
    bare = names.str.replace(r"[-_+'’&,. ]+", " ", regex=True).str.strip().astype("str")
    return pd.Series(plain(bare).to_pylist(), index=names.index, dtype="str")
