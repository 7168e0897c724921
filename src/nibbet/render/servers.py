"""The redirect map as text to paste into the settings of common web servers."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING
from urllib.parse import unquote, urlsplit

if TYPE_CHECKING:
    import pandas as pd

#: what may stand between quotes in a settings file; addresses with anything else are left out, and counted
SAFE = re.compile(r"[\w!$&()*+,\-./:;=?@%~\[\]|#' ]*")


def nginx(redirects: pd.DataFrame) -> str:
    """Two maps for nginx, from the address asked for to where it leads; an address that is gone answers 410."""
    rows, left = _told(redirects, nginx=True)
    moved = [f'    "{path}" "{target}";' for path, target in rows if target]
    gone = [f'    "{path}" 1;' for path, target in rows if not target]
    lines = [
        "# Into the http block:",
        "map $request_uri $moved_to {",
        '    default "";',
        *moved,
        "}",
        "map $request_uri $is_gone {",
        "    default 0;",
        *gone,
        "}",
        "# Into the server block:",
        "#   if ($moved_to) { return 301 $moved_to; }",
        "#   if ($is_gone) { return 410; }",
    ]
    return "\n".join([*lines, *left]) + "\n"


def apache(redirects: pd.DataFrame) -> str:
    """Rules of Apache httpd (mod_rewrite), for the server or a folder; an address that is gone answers 410."""
    rows, left = _told(redirects, nginx=False)
    lines = ["RewriteEngine On"]
    for path, target in rows:
        where, _, query = path.partition("?")
        lines.append(f'RewriteCond %{{QUERY_STRING}} "^{re.escape(query)}$"')
        pattern = "^/?" + re.escape(unquote(where).removeprefix("/")) + "$"
        lines.append(
            f'RewriteRule "{pattern}" "{target.replace("%", chr(92) + "%")}" [R=301,L,NE,QSD]'
            if target
            else f'RewriteRule "{pattern}" - [G,L]'
        )
    return "\n".join([*lines, *left]) + "\n"


def _told(redirects: pd.DataFrame, *, nginx: bool) -> tuple[list[tuple[str, str]], list[str]]:
    """(path with query, target or "") of every address that can be written safely, and a remark on those left out."""
    rows, left = [], 0
    for given, to in zip(redirects["from"], redirects["to"], strict=True):
        parts = urlsplit(given)
        path = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
        target = to if isinstance(to, str) else ""
        if SAFE.fullmatch(unquote(path)) and SAFE.fullmatch(unquote(target)):
            rows.append((path.replace("$", "%24") if nginx else path, target.replace("$", "%24")))
        else:
            left += 1
    return rows, [f"# {left} addresses with unusual signs are left out: see redirects.csv"] if left else []
