"""The redirect map as configuration of common web servers."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING
from urllib.parse import unquote, urlsplit

if TYPE_CHECKING:
    import pandas as pd

#: characters allowed between quotes in a configuration file; other addresses are left out and counted
SAFE = re.compile(r"[\w!$&()*+,\-./:;=?@%~\[\]|#' ]*")


def nginx(redirects: pd.DataFrame, home: str) -> str:
    """Two maps for nginx for each host, from the requested address to its target; an address that is gone answers 410."""
    result, left = _safe_rules(redirects, home, nginx=True)
    lines = []
    for number, (host, rows) in enumerate(result.items(), 1):
        name = f"_{number}" if number > 1 else ""
        lines += [
            "# Into the http block:",
            f"map $request_uri $moved_to{name} {{",
            '    default "";',
            *(f'    "{path}" "{target}";' for path, target in rows if target),
            "}",
            f"map $request_uri $is_gone{name} {{",
            "    default 0;",
            *(f'    "{path}" 1;' for path, target in rows if not target),
            "}",
            f"# Into the server block{f' of {host}' if name else ''}:",
            f"#   if ($moved_to{name}) {{ return 301 $moved_to{name}; }}",
            f"#   if ($is_gone{name}) {{ return 410; }}",
        ]
    return "\n".join([*lines, *left]) + "\n"


def apache(redirects: pd.DataFrame, home: str) -> str:
    """Rules of Apache httpd (mod_rewrite), for the server or a folder; an address that is gone answers 410."""
    result, left = _safe_rules(redirects, home, nginx=False)
    lines, first = ["RewriteEngine On"], next(iter(result))
    for host, path, target in ((host, *row) for host, rows in result.items() for row in rows):
        where, _, query = path.partition("?")
        if host != first:
            lines.append(f'RewriteCond %{{HTTP_HOST}} "^(www\\.)?{re.escape(host)}$" [NC]')
        lines.append(f'RewriteCond %{{QUERY_STRING}} "^{re.escape(query)}$"')
        pattern = "^/?" + re.escape(unquote(where).removeprefix("/")) + "$"
        lines.append(
            f'RewriteRule "{pattern}" "{target.replace("%", chr(92) + "%")}" [R=301,L,NE,QSD]'
            if target
            else f'RewriteRule "{pattern}" - [G,L]'
        )
    return "\n".join([*lines, *left]) + "\n"


def _safe_rules(redirects: pd.DataFrame, home: str, *, nginx: bool) -> tuple[dict[str, list[tuple[str, str]]], list[str]]:
    """By host, the home host first: (path with query, target or "") of every address that can be written safely; and a remark on those left
    out.
    """
    rows: dict[str, list[tuple[str, str]]] = {(urlsplit(home).hostname or "").removeprefix("www."): []}
    left = 0
    for given, to in zip(redirects["from"], redirects["to"], strict=True):
        parts = urlsplit(given)
        path = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
        target = to if isinstance(to, str) else ""
        if SAFE.fullmatch(unquote(path)) and SAFE.fullmatch(unquote(target)):
            rows.setdefault((parts.hostname or "").removeprefix("www."), []).append(
                (path.replace("$", "%24") if nginx else path, target.replace("$", "%24"))
            )
        else:
            left += 1
    return rows, [f"# {left} addresses with unusual signs are left out: see redirects.csv"] if left else []
