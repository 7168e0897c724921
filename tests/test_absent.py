"""Pages that matter and that search hardly shows: every cause planted on a made-up site, read in two dresses."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import nibbet
from nibbet.cli.main import main
from nibbet.core.absent import CAUSES

HOME = "https://stonemill.example"
EACH = 3
WORDS = "weir stile ford bothy cairn shale heath copse tarn fell beck ghyll moss scree ridge combe spinney meadow lock sluice".split()
ROBOT, PERSON = (
    "Mozilla/5.0 (compatible; Findbot/2.1; +https://find.example/bot)",
    "Mozilla/5.0 (Windows NT 10.0; Win64; x64) Firefox/140.0",
)


def told(rng: np.random.Generator, name: str) -> str:
    return f"{name} " + " ".join(f"{word}{number}" for word, number in zip(rng.choice(WORDS, 60), rng.integers(0, 400, 60), strict=True))


def site(seed: int) -> tuple[dict[str, pd.DataFrame], dict[str, str]]:
    """The tables of a site, and the planted cause of each page that is absent."""
    rng = np.random.default_rng(seed)
    shown = [f"/guides/{word}-{n}/" for word in WORDS for n in range(6)]
    planted = {f"/{name.replace('_', '-')}/{WORDS[n]}/": name for name in CAUSES for n in range(EACH)}
    names = ["/", *shown, *planted]
    days = pd.date_range("2025-06-01", "2026-10-31", freq="3D")
    search = pd.DataFrame([(d, p) for d in days for p in ["/", *shown]], columns=["date", "page"])
    search = search.assign(
        impressions=rng.integers(20, 60, len(search)), query=search["page"].str.split("/").str[-2] + " walk", position=4.0
    )
    search["clicks"] = rng.binomial(search["impressions"], 0.05)
    crawl = pd.DataFrame({"page": names, "status": 200, "title": [f"Page of {n.strip('/')}" for n in names], "depth": 2, "noindex": "no"})
    crawl = crawl.assign(canonical=HOME + crawl["page"], index_state="indexed", redirect_to=None, published="2023-04-01")
    crawl["text"] = [told(rng, name) for name in names]
    cause = crawl["page"].map(planted)
    crawl.loc[cause == "error", "status"] = 410
    crawl.loc[cause == "moved", ["status", "redirect_to"]] = [301, HOME + shown[4]]
    crawl.loc[cause == "noindex", "noindex"] = "yes"
    crawl.loc[cause == "canonical", "canonical"] = HOME + shown[5]
    crawl.loc[cause == "deep", "depth"] = 9
    crawl.loc[cause == "not_indexed", "index_state"] = "crawled, not indexed"
    crawl.loc[cause == "young", "published"] = "2026-10-20"
    copy = crawl["page"].isin(shown[:EACH])
    crawl.loc[cause == "duplicate", "text"] = (crawl.loc[copy, "text"] + " copied").to_numpy()
    linked = [name for name in names if planted.get(name) != "unlinked"]
    links = pd.DataFrame({"source": [HOME + shown[n % 90] for n in range(3 * len(linked))], "target": [HOME + n for n in linked] * 3})
    links = links[links["source"] != links["target"]]
    times = pd.date_range("2026-08-05", "2026-10-30", periods=40).strftime("%d/%b/%Y:%H:%M:%S +0000")
    fetched = [name for name in names if planted.get(name) not in ("unfetched", "robots")]
    hits = [(times[n % 40], p, a, n) for p in fetched for n, a in ((3, ROBOT), (17, ROBOT), (23, PERSON))]
    hits += [(times[1], p, PERSON, 1) for p, name in planted.items() if name == "unfetched"]
    log = "\n".join(f'192.0.2.{n} - - [{t}] "GET {p} HTTP/1.1" 200 512 "-" "{a}"' for t, p, a, n in hits)
    visits = pd.DataFrame({"page": names, "sessions": 40}).merge(pd.DataFrame({"date": days}), how="cross")
    robots = "User-agent: *\nDisallow: /robots/\nAllow: /robots/open/\n"
    sitemap = "".join(f"<url><loc>{HOME}{name}</loc></url>" for name in names)
    tables = {"search": search, "crawl": crawl, "links": links, "landings": visits.assign(channel="email")}
    others = {
        "robots.txt": robots,
        "sitemap.xml": f'<urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9">{sitemap}</urlset>',
        "access.log": log,
    }
    return {**tables, **others}, planted  # type: ignore[dict-item]


FRENCH = {"page": "Adresse", "status": "Statut", "title": "Titre", "depth": "Profondeur", "redirect_to": "Redirection", "source": "Page source", "target": "Page cible",
          "impressions": "Affichages", "query": "Requête", "clicks": "Clics", "date": "Jour", "sessions": "Visites", "channel": "Canal", "position": "Position moyenne"}  # fmt: skip


@pytest.mark.parametrize(("seed", "names", "slash"), [(1, {}, "/"), (2, FRENCH, "")], ids=["plain", "French, no end slash"])
def test_each_absent_page_has_its_cause(
    seed: int, names: dict[str, str], slash: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    tables, planted = site(seed)
    kinds = {"robots.txt": "robots", "sitemap.xml": "sitemap", "access.log": "hits"}
    for name, table in tables.items():
        text = table if isinstance(table, str) else table.rename(columns=names).to_csv(index=False)
        text = text if slash else pd.Series([text]).str.replace(r"(\w)/(?=[,<\s\"]|$)", r"\1", regex=True)[0]
        (tmp_path / (name if name in kinds else f"{name}.csv")).write_text(text)
    files = {**{name: f"{name}.csv" for name in tables if name not in kinds}, **{kind: name for name, kind in kinds.items()}}
    sources = "".join(f'[[source]]\nkind = "{kind}"\nfiles = "{name}"\n' for kind, name in files.items())
    (tmp_path / "nibbet.toml").write_text(f'[site]\nhome = "{HOME}/"\n{sources}')
    with nibbet.open_site(tmp_path) as one:
        absent = one.absent()
    found = dict(zip(absent["page"].str.removeprefix(HOME).str.rstrip("/") + "/", absent["cause"], strict=True))
    assert found == planted
    why = absent.groupby("cause")["because"].first()
    assert f'"Disallow: /robots{slash}" for all robots' in why["robots"]
    assert f"It has the same content as {HOME}/guides/weir-" in why["duplicate"]
    assert absent["importance"].between(1, 6).all()
    assert (absent["sessions"] == 1200).all(), "days without a row are quiet, not missing"
    assert absent["importance"].is_monotonic_decreasing
    assert main(["absent", str(tmp_path), "-q", "--top", "1"]) == 0
    printed = capsys.readouterr().out
    assert f"hardly shows: {len(planted)}" in printed
    assert f"unfetched: {EACH}" in printed
    assert "and 2 more" in printed
