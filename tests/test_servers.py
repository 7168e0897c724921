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
    text = nginx(MAP, HOME)
    assert '"/old/" "https://tarnbrook.example/new/";' in text
    assert '"/gone/" 1;' in text
    assert '"/find?q=a.b&x=%241" ' in text, "a sign of the server's own language is spelt out"
    assert "evil" not in text
    assert "2 addresses with unusual signs are left out" in text


def test_apache_rules_match_only_their_address() -> None:
    text = apache(MAP, HOME)
    rules = dict(re.findall(r'RewriteRule "(.+?)" (\S+ \[\S+\])', text))
    leads = {path: [to for pattern, to in rules.items() if re.search(pattern, path)] for path in ("old/", "older/", "gone/", "x")}
    assert leads["old/"] == ['"https://tarnbrook.example/new/" [R=301,L,NE,QSD]']
    assert leads["gone/"] == ["- [G,L]"]
    assert leads["older/"] == leads["x"] == []
    assert r'RewriteCond %{QUERY_STRING} "^q=a\.b&x=\$1$"' in text.replace(r"\&", "&").replace(r"\=", "=")
    assert "evil" not in text
    assert text.count("\n") == 1 + 2 * 3 + 1


def test_each_host_has_rules_of_its_own() -> None:
    both = pd.DataFrame({"from": [f"{HOME}/a/", "https://de.tarnbrook.example/a/"], "to": [f"{HOME}/b/", None]})
    maps = nginx(both, HOME).split("# Into the http block:")
    assert '"/a/" "https://tarnbrook.example/b/";' in maps[1]
    assert '"/a/" 1;' not in maps[1]
    assert "map $request_uri $is_gone_2 {" in maps[2]
    assert "# Into the server block of de.tarnbrook.example:" in maps[2]
    rules = apache(both, HOME).splitlines()
    assert rules.count(r'RewriteCond %{HTTP_HOST} "^(www\.)?de\.tarnbrook\.example$" [NC]') == 1
    assert rules[-1].endswith("[G,L]"), "the rule below the condition of its host"
