"""How sums of money are written: symbols, codes of ISO 4217 and local abbreviations, before or after the number."""

from __future__ import annotations

SYMBOLS = "€$£¥￥₹₽₺₴₩₪฿₫₱₦₡₲₸₼"
#: lower case; longer ones first, since a shorter one may begin them
NAMES = sorted(
    "eur usd gbp chf pln sek nok dkk czk huf ron bgn isk jpy cny inr brl aud cad nzd zar try mxn ars cop clp pen uah rub ils aed sar sgd hkd krw twd "
    "thb idr myr php vnd zł zl kr kč kc ft lei лв руб грн р rs tl kn din".split(),
    key=lambda name: (-len(name), name),
)
#: regular expressions for lower-case text, or ignoring case: dollars and soles with letters, as in US$ and S/; a name; any of them
SIGNED, NAMED = r"(?:(?:us|ca|au|nz|hk|mx|a|c|r)\$|s/)", rf"(?:(?:{'|'.join(NAMES)})\.?)"
MONEY = rf"(?:{SIGNED}|[{SYMBOLS}]|{NAMED})"
