"""The redirect map as settings of web servers: what they would do with it, and hostile addresses."""

from __future__ import annotations

import re

import pandas as pd

from nibbet.render.servers import apache, nginx

HOME = "https://tarnbrook.example"
MAP = pd.DataFrame(
    [
        ("/old/", f"{HOME}/new/"),
        ("/gone/", None),
        ("/find?q=a.b&x=$1", f"{HOME}/caf%C3%A9/"),
        ('/a"; } evil {', f"{HOME}/x/"),
        ("/line%0Abreak/", f"{HOME}/x/"),
    ],
    columns=["from", "to"],
).assign(**{"from": lambda t: HOME + t["from"]})


def test_nginx_map_leads_on_and_hostile_addresses_are_left_out() -> None:
    text = nginx(MAP)
    assert '"/old/" "https://tarnbrook.example/new/";' in text
    assert '"/gone/" 1;' in text
    assert '"/find?q=a.b&x=%241" ' in text, "a sign of the server's own language is spelt out"
    assert "evil" not in text
    assert "2 addresses with unusual signs are left out" in text


def test_apache_rules_match_only_their_address() -> None:
    text = apache(MAP)
    rules = dict(re.findall(r'RewriteRule "(.+?)" (\S+ \[\S+\])', text))
    leads = {path: [to for pattern, to in rules.items() if re.search(pattern, path)] for path in ("old/", "older/", "gone/", "x")}
    assert leads["old/"] == ['"https://tarnbrook.example/new/" [R=301,L,NE,QSD]']
    assert leads["gone/"] == ["- [G,L]"]
    assert leads["older/"] == leads["x"] == []
    assert r'RewriteCond %{QUERY_STRING} "^q=a\.b&x=\$1$"' in text.replace(r"\&", "&").replace(r"\=", "=")
    assert "evil" not in text
    assert text.count("\n") == 1 + 2 * 3 + 1
