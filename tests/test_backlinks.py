"""Links from other sites: new, lost, and to addresses that fail, told from several exports."""

from __future__ import annotations

from pathlib import Path

import pandas as pd
import pytest

import nibbet
from nibbet.cli.main import main

HOME = "https://stonemill.example"
NAMES = [{}, {"from_url": "Verweisende Seite", "page": "Zielseite", "first_seen": "Zuerst gesehen", "anchor": "Linktext"}]


def export(pages: dict[str, tuple[str, str]]) -> pd.DataFrame:
    """from_url -> (path, first seen)."""
    rows = [(url, HOME + path, day, "read on") for url, (path, day) in pages.items()]
    return pd.DataFrame(rows, columns=["from_url", "page", "first_seen", "anchor"])


@pytest.mark.parametrize("names", NAMES, ids=["plain", "German"])
def test_new_lost_and_failing_links_are_told(names: dict[str, str], tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    old = {f"https://fan{n % 4}.example/{n}": (f"/stoves/{n % 5}/", "2025-02-01") for n in range(20)}
    now = {url: what for number, (url, what) in enumerate(old.items()) if number not in (3, 7)}
    now |= {"https://late.example/x": ("/stoves/1/", "2026-10-10"), "https://fan1.example/gone": ("/stoves/old/", "2026-01-01")}
    part = {f"https://other{n}.example/": ("/stoves/2/", "2024-05-05") for n in range(6)}
    for name, rows in (("links-2026-03", old), ("links-2026-10", now), ("links-rest", part)):
        export(rows).rename(columns=names).to_csv(tmp_path / f"{name}.csv", index=False)
    days, paths = pd.date_range("2026-06-01", "2026-10-31"), [f"/stoves/{n}/" for n in range(5)]
    search = pd.DataFrame([(d, HOME + p) for d in days for p in paths], columns=["date", "page"]).assign(
        clicks=2, impressions=30, position=3.0
    )
    search.to_csv(tmp_path / "search.csv", index=False)
    titles = [f"Stove number {n}" for n in range(5)]
    crawl = pd.DataFrame({"page": [*paths, "/stoves/old/", "/stoves/way/"], "status": [200] * 5 + [404, 301], "title": [*titles, "Stove number 3", ""], "redirect_to": [None] * 6 + ["/stoves/4/"]})  # fmt: skip
    crawl.to_csv(tmp_path / "crawl.csv", index=False)
    sources = "".join(
        f'[[source]]\nkind = "{k}"\nfiles = "{f}"\n'
        for k, f in (("search", "search.csv"), ("crawl", "crawl.csv"), ("backlinks", "links-*.csv"))
    )
    (tmp_path / "nibbet.toml").write_text(f'[site]\nhome = "{HOME}/"\n{sources}')
    with nibbet.open_site(tmp_path) as site:
        hosts, faults, pages = site.linking_hosts().set_index("host"), site.backlink_faults(), site.pages().set_index("page")
    lost = faults[faults["state"] == "lost"]
    assert sorted(lost["from_url"]) == sorted(list(old)[n] for n in (3, 7)), "those of the older export alone; a part is no older export"
    failing = faults[faults["state"] == "failing"].iloc[0]
    assert (failing["from_url"], failing["status"]) == ("https://fan1.example/gone", 404)
    assert failing["to"] == f"{HOME}/stoves/3/", "the page with the same title covers it"
    assert hosts["links"].sum() == len(now) + len(part)
    assert hosts["lost"].sum() == 2
    assert hosts.loc["late.example", "new"] == hosts["new"].sum() == 1
    assert hosts.loc["fan1.example", "failing"] == hosts["failing"].sum() == 1
    assert pages.loc[f"{HOME}/stoves/1/", "backlinks"] == len({u for u, (p, _) in (old | now).items() if p == "/stoves/1/"}), (
        "each link once"
    )
    assert main(["links", "--outside", str(tmp_path), "-q"]) == 0
    assert "Links from 11 hosts: 26, 1 of them new, 1 to addresses that fail; 2 lost" in capsys.readouterr().out


def test_a_link_with_a_day_of_its_loss_protects_no_page() -> None:
    search = pd.DataFrame({"date": pd.date_range("2026-06-01", "2026-10-31"), "page": "/stoves/1/", "clicks": 2, "impressions": 30})
    links = pd.DataFrame([("https://a.example/1", "/stoves/1/", "2024-01-01", ""), ("https://b.example/2", "/stoves/1/", "2024-02-01", "2026-02-01")],
                         columns=["Linking page", "Linked page", "First seen", "Lost on"])  # fmt: skip
    with nibbet.Site(home=HOME + "/", search=search, backlinks=links) as site:
        assert site.pages()["backlinks"].tolist() == [1]
        assert site.backlink_faults()[["from_url", "state"]].to_numpy().tolist() == [["https://b.example/2", "lost"]]
        assert site.linking_hosts().set_index("host")["links"].to_dict() == {"a.example": 1, "b.example": 0}


def test_a_site_that_links_throughout_protects_no_page() -> None:
    days, paths = pd.date_range("2025-09-01", "2026-10-31"), [f"/stoves/{n}/" for n in range(40)]
    rows = pd.DataFrame({"date": days.repeat(38), "page": paths[:38] * len(days), "clicks": 1, "impressions": 20, "position": 3.0})
    idle = pd.DataFrame({"date": days[:1], "page": paths[38], "clicks": 0, "impressions": 3, "position": 40.0})
    idle = pd.concat([idle, idle.assign(page=paths[39])])
    visits = pd.DataFrame({"date": days, "page": paths[0], "channel": "Email", "sessions": 2, "conversions": 0})
    copies = [(f"https://www.copy{n}.example/to?{path}", path) for n in range(3) for path in paths[n * 4 :]]
    links = pd.DataFrame([*copies, ("https://fan.example/a", paths[39]), ("https://fan.example/b", paths[1])], columns=["from_url", "page"])
    dates = pd.DataFrame({"page": paths, "published": "2020-01-01"})
    with nibbet.Site(home=HOME, search=pd.concat([rows, idle]), landings=visits, backlinks=links, editorial=dates) as site:
        pages, hosts, account = site.pages().set_index("page"), site.linking_hosts().set_index("host"), site.account
    assert pages["verdict"].eq("prune").pipe(lambda pruned: set(pages.index[pruned])) == {HOME + paths[38]}
    assert "no backlink but from sites that link throughout this one in" in pages.loc[HOME + paths[38], "because"]
    assert pages["backlinks"].sum() == 2, "those of a fan"
    assert hosts["links"].sum() == len(links), "all are listed"
    note = next(note["text"] for note in account["notes"] if note["code"] == "links_throughout")
    assert note.startswith(f"{len(copies)} backlinks come from sites that link throughout this one")
