"""Links that are broken and links that are missing: recomputed from the tables, and found where they were planted."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import ibis
import numpy as np
import pandas as pd
import pytest
from scipy import sparse

import nibbet
from nibbet.cli.main import main
from nibbet.core.anchors import SILENT_LINKS
from nibbet.core.link_rows import in_navigation
from nibbet.core.linking import MOST_GIVEN, MOST_GOT, link_flows, link_suggestions, ranks
from nibbet.demo.builder import LEVELS
from nibbet.demo.links import links_of, silent_of, stuffed_of, vitals_of
from nibbet.demo.scenario import build

HOME = "https://tarnbrook.example"
SUBJECTS = "heron otter kingfisher newt dipper vole swift adder".split()


def site() -> dict[str, pd.DataFrame]:
    """Eight subjects of four pages each; the second of each is linked by nothing, though its siblings would; one address is gone, one moved."""
    days = pd.date_range("2025-08-01", "2026-10-31", freq="7D")
    names = [f"/{subject}/{part}/" for subject in SUBJECTS for part in ("food", "nest", "song", "trail")]
    shown = [(day, f"{HOME}{name}", " ".join(name.strip("/").split("/")), 9, 120, 4.0) for day in days for name in names]
    crawl = pd.DataFrame(
        {
            "page": [HOME + "/", *(HOME + name for name in names)],
            "status": 200,
            "title": ["Home", *(" ".join(n.strip("/").split("/")) for n in names)],
        }
    )
    faults = pd.DataFrame({"page": [f"{HOME}/old/", f"{HOME}/heron/feeding/", f"{HOME}/way/"], "status": [404, 301, 302], "redirect_to": [None, f"{HOME}/heron/food/", f"{HOME}/heron/feeding/"]})  # fmt: skip
    links = [(HOME + "/", HOME + name) for name in names if not name.endswith("nest/")]
    links += [
        (f"{HOME}/{s}/{a}/", f"{HOME}/{s}/{b}/")
        for s in SUBJECTS
        for a in ("food", "nest", "song", "trail")
        for b in ("food", "song", "trail")
        if a != b
    ]
    links += [(f"{HOME}/otter/food/", f"{HOME}/old/"), (f"{HOME}/otter/song/", f"{HOME}/old/"), (f"{HOME}/newt/food/", f"{HOME}/heron/feeding/"), (f"{HOME}/newt/food/", f"{HOME}/way/")]  # fmt: skip
    return {
        "search": pd.DataFrame(shown, columns=["date", "page", "query", "clicks", "impressions", "position"]),
        "crawl": pd.concat([crawl, faults], ignore_index=True),
        "links": pd.DataFrame(links, columns=["source", "target"]).assign(anchor="read on", place="main"),
    }


def undressed(tables: dict[str, pd.DataFrame]) -> dict[str, pd.DataFrame]:
    """The same as others hold it: German headers, links without host, of failing pages without end slash, redirects in http and www."""
    links = tables["links"].copy()
    links["target"] = (
        links["target"]
        .str.replace(f"{HOME}/old/", "/old")
        .str.replace(f"{HOME}/way/", "http://www.tarnbrook.example/way/#top")
        .str.removeprefix(HOME)
    )
    return {
        "search": tables["search"].rename(columns={"date": "Datum", "page": "Seite", "query": "Suchanfrage", "clicks": "Klicks", "impressions": "Einblendungen"}),
        "crawl": tables["crawl"].rename(columns={"page": "Adresse", "status": "Statuscode", "redirect_to": "Weiterleitungsziel", "title": "Titel"}),
        "links": links.rename(columns={"source": "Quelle", "target": "Ziel", "anchor": "Linktext", "place": "Platzierung"}),
    }  # fmt: skip


@pytest.mark.parametrize("dress", [dict, undressed], ids=["plain", "German"])
def test_links_to_faults_and_missing_links_are_told(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], dress: Callable[[dict[str, pd.DataFrame]], dict[str, pd.DataFrame]]
) -> None:
    tables = site()
    for name, table in dress(tables).items():
        table.to_csv(tmp_path / f"{name}.csv", index=False)
    sources = "".join(f'[[source]]\nkind = "{name}"\nfiles = "{name}.csv"\n' for name in tables)
    (tmp_path / "nibbet.toml").write_text(f'[site]\nhome = "{HOME}/"\n{sources}')
    with nibbet.open_site(tmp_path) as one:
        broken, missing, pages = one.broken_links(), one.link_suggestions(), one.pages().set_index("page")
    faults = tables["crawl"].query("status >= 300").set_index("page")["status"]
    true = tables["links"][tables["links"]["target"].isin(faults.index)]
    linked = broken["target"].str.replace("http://www.", "https://").str.removeprefix(HOME).str.removesuffix("#top").str.removesuffix("/")
    full = HOME + linked + "/"
    assert sorted(zip(broken["source"], full, strict=True)) == sorted(zip(true["source"], true["target"], strict=True))
    assert (broken["status"] == full.map(faults)).all()
    mend = broken.set_index(full)["to"]
    assert mend[f"{HOME}/heron/feeding/"] == mend[f"{HOME}/way/"] == f"{HOME}/heron/food/", "straight to the end of the chain"
    assert set(broken["place"]) == {"main"}
    assert broken["clicks"].equals(broken["source"].map(pages["clicks_long"]).astype("int64"))
    nests = {f"{HOME}/{subject}/nest/" for subject in SUBJECTS}
    assert set(missing["to"]) == nests, "those that nothing links to"
    subject = missing["to"].str.split("/").str[3]
    assert (missing["from"].str.split("/").str[3] == subject).all(), "from pages of their own subject"
    assert (missing["anchor"] == subject + " nest").all()
    known = set(zip(tables["links"]["source"], tables["links"]["target"], strict=True))
    assert not known & set(zip(missing["from"], missing["to"], strict=True))
    assert main(["links", str(tmp_path), "-q"]) == 0
    told = capsys.readouterr().out
    assert "Links to faults and detours: 4, to 3 addresses" in told
    assert f'from {HOME}/heron/food/ with "heron nest"' in told


def test_without_links_nothing_is_said(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    site()["search"].to_csv(tmp_path / "search.csv", index=False)
    (tmp_path / "nibbet.toml").write_text(f'[site]\nhome = "{HOME}/"\n[[source]]\nkind = "search"\nfiles = "search.csv"\n')
    assert main(["links", str(tmp_path), "-q"]) == 0
    assert "nibbet crawl makes both" in capsys.readouterr().out


@pytest.mark.parametrize(("place", "expected"), [(None, [0]), ("main", []), ("Fußzeile", [1])])
def test_navigation_is_what_its_place_says_else_what_most_pages_link_to(place: str | None, expected: list[int]) -> None:
    links = pd.DataFrame(
        [(source, target) for source in range(2, 32) for target in (0, 31 - source % 12)], columns=["source_id", "target_id"]
    )
    rows = pd.concat([links.assign(place="main" if place else None), pd.DataFrame({"source_id": [5], "target_id": [1], "place": [place]})])
    table = ibis.memtable(
        rows.astype({"place": "str"}).where(rows.notna(), None).assign(aside=pd.Series(pd.NA, rows.index, dtype="string"))
    )
    assert in_navigation(table).to_pandas()["target_id"].tolist() == expected


@pytest.mark.parametrize("seed", range(6))
def test_suggestions_keep_their_laws_on_any_site(seed: int) -> None:
    rng = np.random.default_rng(seed)
    size = int(rng.integers(5, 120))
    pages = pd.DataFrame({"path": [f"/{n}/" if n else "/" for n in range(size)], "impressions_long": rng.integers(0, 5000, size)})
    pages = pages.assign(section=rng.choice(["/a/", "/b/"], size), backlinks=rng.integers(0, 3, size))
    pages = pages.assign(**{name: rng.random(size) < 0.15 for name in ("gone", "blocked", "leaves")})
    links = tuple(rng.integers(0, size, (2, int(rng.integers(0, 4 * size)))))
    links = tuple(part[links[0] != links[1]] for part in links)
    inlinks = pd.Series(np.bincount(np.unique(links[0] * size + links[1]) % size, minlength=size) if len(links[0]) else np.zeros(size, int))
    words = sparse.random(size, 30, 0.2, format="csr", random_state=seed)
    length = np.sqrt(np.asarray(words.multiply(words).sum(axis=1)).ravel())
    words = sparse.csr_matrix(sparse.diags(1 / np.maximum(length, 1e-9)) @ words)
    table = link_suggestions(pages, inlinks, words, links, pages["path"], pd.Series(rng.random(size)))
    shut = pages.index[pages[["gone", "blocked", "leaves"]].any(axis=1)]
    assert shut.intersection([*table["to"], *table["from"]]).empty, "nothing to or from pages that leave"
    assert {*zip(*links, strict=True)}.isdisjoint(zip(table["from"], table["to"], strict=True))
    assert not (table["to"] == table["from"]).any()
    assert table.groupby("to").size().max() <= MOST_GOT or table.empty
    assert table.groupby("from").size().max() <= MOST_GIVEN or table.empty
    flows = link_flows(pages, links)
    assert flows.empty or flows["flow"].sum() == pytest.approx(1.0)
    assert flows.drop_duplicates("section_to")["received"].sum() == pytest.approx(flows["flow"].sum())
    held = ranks(*links, size)
    assert held.sum() == pytest.approx(size, rel=1e-3)


@pytest.mark.slow
def test_planted_faults_of_links_and_speed_are_found_on_a_world_never_seen(world: Callable[..., Path]) -> None:
    demo = build(120, 4711, LEVELS["usual"])
    live, links, vitals = "https://tarnbrook.example", links_of(demo), vitals_of(demo)
    with nibbet.open_site(world(4711, 120, "usual")) as one:
        broken, missing, repairs, flows = one.broken_links(), one.link_suggestions(), one.repairs(), one.link_flows()
        pages = one.pages().set_index("page")
    planted = links[links["status"] >= 300]
    whole = planted["target"].where(planted["target"].str.startswith("http"), live + planted["target"])
    true = set(zip(live + planted["source"], whole, planted["status"], strict=True))
    assert set(zip(broken["source"], broken["target"], broken["status"].astype(int), strict=True)) == true
    assert any("paddlers" in target for _, target, _ in true), "of other sites too"
    moved = (
        planted[(planted["status"] == 301) & planted["target"].str.startswith("http")]
        .drop_duplicates("target")
        .set_index("target")["moved"]
    )
    assert broken.drop_duplicates("target").set_index("target")["to"].reindex(moved.index).eq(moved).all()
    slow, poor = set(repairs.loc[repairs["repair"] == "slow", "page"]), live + vitals.loc[vitals["rating"] == "poor", "path"]
    assert slow == {page for page in poor if pages.loc[page, "clicks_long"] > 0}, "those that are found"
    known = set(zip(live + links["source"], live + links["target"], strict=True))
    assert not known & set(zip(missing["from"], missing["to"], strict=True))
    assert not pages["verdict"].reindex(missing["to"]).isin(["prune", "consolidate"]).any()
    subject = dict(zip(live + demo.pages["path"], demo.pages["subject"].str.split().str[-1], strict=True))
    section = missing[["from", "to"]].apply(lambda end: end.str.split("/").str[3])
    alike = missing["from"].map(subject).eq(missing["to"].map(subject)) | section["from"].eq(section["to"])
    assert alike.mean() >= 0.95
    assert flows["flow"].sum() == pytest.approx(1.0)
    text = links[(links["place"] == "main") & ~links["target"].str.startswith("http")]
    assert flows["links"].sum() <= len(text), "navigation aside"
    linked = text[text["source"] != text["target"]].groupby("target")["source"].nunique()
    mute = {live + path for path in silent_of(demo) if linked.get(path, 0) >= SILENT_LINKS}
    worded = repairs[repairs["repair"] == "anchors"]
    assert mute
    assert set(worded["page"]) == mute | set(live + stuffed_of(demo)), "links that all say the same, and links that say nothing"
    assert set(worded.loc[worded["because"].str.contains("cheap offers"), "page"]) == set(live + stuffed_of(demo))


@pytest.mark.slow
def test_others_links_with_a_status_are_believed_without_a_crawl(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    home, away = "https://moulin.example", "https://autre.example"
    pages = [f"{home}/guide/{word}" for word in ("ecluse", "gue", "refuge", "cairn")]
    search = pd.DataFrame(
        {
            "Page de destination": pages,
            "Clics": [90, 60, 30, 10],
            "Affichages": [900, 800, 700, 600],
            "Position moyenne": [2.0, 3.0, 5.0, 9.0],
        }
    )
    search.to_csv(tmp_path / "pages 2026-08-01 2026-10-31.csv", index=False)
    links = [(one, two, 200) for one in pages for two in pages if one != two]
    links += [
        (pages[0], f"{home}/guide/disparu", 404),
        (pages[1], f"{away}/x", 404),
        (pages[1], f"{away}/y", 0),
        (pages[1], f"{away}/z", 403),
    ]
    pd.DataFrame(links, columns=["Depuis", "Vers", "Code HTTP"]).to_csv(tmp_path / "liens.csv", index=False)
    assert main(["init", str(tmp_path)]) == 0
    capsys.readouterr()
    assert main(["links", str(tmp_path), "--broken", "-q"]) == 0
    told = capsys.readouterr().out.splitlines()[1:]
    assert [line.split()[:3] for line in told] == [["/guide/ecluse", "/guide/disparu", "404"], ["/guide/gue", "autre.example/x", "404"]], (
        "0 is what nobody asked"
    )
    assert main(["links", str(tmp_path), "--broken", "-q", "--where", "status = 500"]) == 0
    assert capsys.readouterr().out == "No row fits. Loosen --where.\n"
