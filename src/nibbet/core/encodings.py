"""In which encoding bytes are that are not UTF-8."""

from __future__ import annotations

import re

#: one-byte encodings whose letters beyond ASCII are Latin, the most usual first, and the alphabets of the languages written in them: the
#: letters beyond ASCII and, after a minus, those of ASCII that stand in no word of the language; which of the encodings a short text
#: is in, the statistics of its bytes do not tell
LATIN = {
    "cp1252": "äöüß àâæçéèêëîïôœùûüÿ-kw áéíñóúü¿¡ªº-kw ãâáàçéêíóôõú-kwy àèéìíòóùú-jkwxy àèéïíòóúüçl·-kw éëïóöüáíèê æøåéóòôü åäöé áðéíóúýþæö äöõüšž",
    "cp1250": "ąćęłńóśźż-qvx áčďéěíňóřšťúůýž-qwx áäčďéíĺľňóôŕšťúýž-qwx áéíóöőúüű-qwx ăâîşţșț-kqwy čćđšž-qwxy ëç-w",
    "cp1254": "çğıöşüİâîû-jqwx",
    "cp1257": "ąčęėįšųūž-qwx āčēģīķļņšūž-qwxy õäöüšž-cqwxy",
}
#: an encoding of an old kind of computer with the letters of the first
MAC = "mac_roman"
#: encodings of other scripts, told apart by the statistics of their bytes
OTHERS = ["cp1251", "cp1253", "cp1255", "cp1256", "cp874", "cp932", "gb18030", "big5", "euc_kr", "koi8_r"]
#: signs that stand in texts of any language
SIGNS = "\u00a0\u00ad–—‘’‚‹›“”„«»…•·€£¥§©®™°±²³½¼¾×÷µ´¨"
#: a byte that is a letter in most Latin encodings, alone between bytes of ASCII
ALONE = rb"(?<![\x80-\xff])[\xc0-\xff](?![\x80-\xff])"


def legacy_encoding(text: bytes) -> str:
    """The encoding of a text that is not UTF-8: where its letters are Latin, the one in which an alphabet holds most of them, else
    by the statistics of its bytes; Western European by default.

    text: the part of it with bytes beyond ASCII, at best a few thousand characters.
    """
    if 2 * len(re.findall(ALONE, text)) <= sum(byte > 0x7F for byte in text):
        from charset_normalizer import from_bytes

        best = from_bytes(text, cp_isolation=[*LATIN, MAC, *OTHERS]).best()
        if best and best.encoding in OTHERS:
            return best.encoding
    return min([*LATIN, MAC], key=lambda name: _foreign(text, name))


def _foreign(text: bytes, encoding: str) -> int:
    """How many letters no alphabet of this encoding explains, by the one that explains most; only of words with letters beyond ASCII."""
    words = re.findall(r"[^\W\d_]*[^\x00-\x7f][\w\x80-\uffff]*", text.decode(encoding, "replace").lower())
    letters = [one for one in "".join(words) if one not in SIGNS]
    return min(
        sum(one in rare if one <= "\x7f" else one not in own for one in letters)
        for own, _, rare in (alphabet.partition("-") for alphabet in LATIN[encoding if encoding in LATIN else "cp1252"].split())
    )
