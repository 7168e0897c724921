"""Names of months in many languages, and the forms of weeks and timestamps."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterable
from datetime import date

#: names and abbreviations by month, without accents (Unicode CLDR 48, 26 European languages); no word names two months
_MONTHS_BY_NUMBER = (
    "ene enero gen gener gennaio ian ianuarie jaan jaanuar jan janeiro januar januara januari january janv janvaris janvier led "
    "leden ledna oca ocak saus sausio sausis sty styczen stycznia tammi tammikuu tammikuuta ιαν ιανουαριοσ ιανουαριου січ січень "
    "січня янв январь января яну януари|"
    "feb febbraio febr febrer febrero februar februara februari februarie februaris february fev fevereiro fevr fevrier helmi "
    "helmikuu helmikuuta lut lutego luty sub subat uno unor unora vas vasario vasaris veebr veebruar φεβ φεβρουαριοσ φεβρουαριου "
    "лют лютии лютого фев февр февраль февраля февруари|"
    "bre brezen brezna kov kovas kovo maalis maaliskuu maaliskuuta maart maerz mar marc marca march marcius marco marec mars mart "
    "martie marts marz marzec marzo mrt mrz μαρ μαρτιοσ μαρτιου бер березень березня мар март марта|"
    "abr abril apr april aprila aprile aprilie aprilis aprill avr avril bal balandis balandzio dub duben dubna huhti huhtikuu "
    "huhtikuuta kwi kwiecien kwietnia nis nisan απρ απριλιοσ απριλιου апр апрель апреля април квіт квітень квітня|"
    "geg geguze geguzes kve kveten kvetna mag maggio mai maig maijs maio maj maja majus may mayis mayo mei touko toukokuu "
    "toukokuuta μαι μαιοσ μαιου маи мая трав травень травня|"
    "birz birzelio birzelis cerven cervna cvn cze czerwca czerwiec giu giugno haz haziran iun iunie juin jun juna june junho juni "
    "junij junijs junio junius juny juuni kesa kesakuu kesakuuta ιουν ιουνιοσ ιουνιου июн июнь июня черв червень червня юни|"
    "cervence cervenec cvc heina heinakuu heinakuuta iul iulie juil juillet jul jula julho juli julij julijs julio juliol julius "
    "july juuli liep liepa liepos lip lipca lipiec lug luglio tem temmuz ιουλ ιουλιοσ ιουλιου июл июль июля лип липень липня юли|"
    "ago agost agosto agu agustos aout aug august augusta augusti augusts augustus augusztus avg avgust elo elokuu elokuuta rugp "
    "rugpjucio rugpjutis sie sierpien sierpnia srp srpen srpna αυγ αυγουστοσ αυγουστου авг август августа серп серпень серпня|"
    "eyl eylul rugs rugsejis rugsejo sep sept september septembra septembre septembrie septembris septiembre set setembre setembro "
    "settembre syys syyskuu syyskuuta szept szeptember wrz wrzesien wrzesnia zar zari σεπ σεπτεμβριοσ σεπτεμβριου вер вересень "
    "вересня сент сентябрь сентября сеп септември|"
    "eki ekim loka lokakuu lokakuuta oct october octobre octombrie octubre okt oktober oktobra oktobris oktoober ott ottobre out "
    "outubro paz pazdziernik pazdziernika rij rijen rijna spal spalio spalis οκτ οκτωβριοσ οκτωβριου жовт жовтень жовтня окт "
    "октомври октябрь октября|"
    "kas kasim lapkr lapkricio lapkritis lis listopad listopada listopadu marras marraskuu marraskuuta noiembrie nov november "
    "novembra novembre novembris novembro noviembre νοε νοεμβριοσ νοεμβριου лист листопад листопада ное ноември нояб ноябрь ноября|"
    "ara aralik dec december decembra decembre decembrie decembris des desember desembre dets detsember dez dezember dezembro dic "
    "dicembre diciembre gru grudnia grudzien gruod gruodis gruodzio joulu joulukuu joulukuuta pro prosince prosinec δεκ δεκεμβριοσ "
    "δεκεμβριου груд грудень грудня дек декабрь декабря декември"
)
#: the month, 1 to 12, of each name in a cell of dates
MONTHS = {word: number for number, words in enumerate(_MONTHS_BY_NUMBER.split("|"), 1) for word in words.split()}
#: names that also name a month in a header or file name, where short ones may be other words ("pro", "set", "led")
_SHORT = set(
    "jan ene feb fev mar mrz apr avr abr may mai mei maj mag jun giu jul lug aug ago sep set oct okt ott out nov dec dez dic".split()
)
CLEAR_MONTHS = {word: number for word, number in MONTHS.items() if len(word) > 3 or word in _SHORT}
#: an ISO week, its year first or last
WEEK = r"^(?P<y1>\d{4})[- ]?\s?(?:W|KW|S)(?P<w1>\d{1,2})$|^(?:W|KW|S|week|woche|semaine|sem|semana|settimana|vecka|uke|uge)\.?\s*(?P<w2>\d{1,2})[\s,/-]+(?P<y2>\d{4})$"
WEEK_WORDS = r"\b(?:week|kw|woche|kalenderwoche|semaine|semana|settimana|vecka|uke|uge|tydzien|hafta)"
#: a year with the number of a month or week behind it, as 202607
JOINED = r"^(?P<year>(?:19[89]|20[0-4])\d)(?P<part>0[1-9]|[1-4]\d|5[0-3])(?:\.0)?$"
#: seconds or milliseconds since 1970, from 2001 to 2033; midnight is a multiple of a quarter of an hour in every time zone
QUARTER_HOUR = 900
EPOCH = r"^(1\d{9})(?:\d{3})?(?:\.0)?$"


def month_of_year(text: str) -> tuple[int, int] | None:
    """Year and month of a text such as Jul-25 or Juli '25, which a spreadsheet shows for months; it may mean a day of July elsewhere."""
    match = re.fullmatch(r"([^\W\d_]{3,})\.?(?: |-|/| ?['’])([1-4]\d)", text.strip())
    month = match and MONTHS.get(_bare(match[1]))
    return (2000 + int(match[2]), month) if match and month else None


def first_days_of(texts: Iterable[str], header: str = "") -> dict[str, date] | None:
    """The first day of each text such as 202607, read as months, or as ISO weeks where the numbers or the header say so; None unless all but
    one, which may name a total, are such texts, of several months or weeks.
    """
    parts = {text: re.match(JOINED, text) for text in set(texts)}
    known = {text: (int(part["year"]), int(part["part"])) for text, part in parts.items() if part}
    if len(known) < max(len(parts) - 1, 2):
        return None
    try:
        if any(number > 12 for _, number in known.values()) or re.search(WEEK_WORDS, header.lower()):
            return {text: date.fromisocalendar(year, number, 1) for text, (year, number) in known.items()}
    except ValueError:
        return None
    return {text: date(year, number, 1) for text, (year, number) in known.items()}


def without_weekday(text: str) -> str:
    """The text of a date without the name of the day of the week before it, in any language: a word that names no month."""
    word = re.match(r"([^\W\d_]{2,})(?:\.?,\s*|\.?\s+(?=\d))(?=\S)", text)
    is_weekday = word and _bare(word[1]) not in MONTHS and not re.match(WEEK, text, re.IGNORECASE)
    return text[word.end() :] if word and is_weekday else text


def _bare(word: str) -> str:
    return "".join(letter for letter in unicodedata.normalize("NFKD", word.casefold()) if not unicodedata.combining(letter))
