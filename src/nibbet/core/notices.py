"""Legal notices: pages that the law, not searchers, asks for."""

from __future__ import annotations

import re

import pandas as pd
import pyarrow.compute as pc

from nibbet.core.sentences import readable
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


#: signs between the words of a name; what may follow it in an address, and in a title before the name of the site
SIGNS, ADDRESS_ENDS, TITLE_ENDS = r"[-_+'’&,. ]+", r"(?:\.[a-z]{2,5})?/*(?:[?#].*)?$", r"\s*(?:[|–—:·].*|\s-\s.*)?$"


def are_notices(pages: pd.DataFrame) -> pd.Series:
    """Whether each page is a legal notice by its name: the last segment of its path, or its title up to the name of the site.

    Args:
        pages: path, title (null where unknown).
    """
    names = "|".join(re.escape(name).replace(r"\ ", SIGNS) for name in plain(pd.Series(NAMES)).to_pylist())
    path, encoded = pages["path"].astype("str"), pages["path"].str.contains("%", regex=False)
    path = path.mask(encoded, path[encoded].map(readable))
    of_path = pc.match_substring_regex(plain(path), f"/(?:{names}){ADDRESS_ENDS}")
    of_title = pc.match_substring_regex(plain(pages["title"]), f"^\\s*(?:{names}){TITLE_ENDS}")
    return pd.Series(pc.or_(of_path, of_title).to_numpy(zero_copy_only=False), index=pages.index, dtype=bool)
