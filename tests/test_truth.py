"""Verdicts against the demo's hidden truth, on seeds that were not used while building."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import nibbet
from nibbet.demo.builder import FIRST_DAY, LAST_COMPLETE_DAY, LEVELS
from nibbet.demo.exports import HOME
from nibbet.demo.scenario import build
from nibbet.demo.site_files import unfetched_of
from score import against_truth, costly, macro_f1, plain_rules, promises, roles_right, without_days, without_source

UNSEEN = [
    (5, 60, "easy", 0.90),
    pytest.param(4211, 400, "easy", 0.90, marks=pytest.mark.slow),
    pytest.param(5903, 400, "usual", 0.90, marks=pytest.mark.slow),
    pytest.param(8117, 400, "hard", 0.80, marks=pytest.mark.slow),
]


@pytest.mark.parametrize(("seed", "count", "level", "least"), UNSEEN)
def test_verdicts_agree_with_the_truth_and_never_cost_a_page_that_matters(
    world: Callable[..., Path], ran: Path, seed: int, count: int, level: str, least: float, capsys: pytest.CaptureFixture[str]
) -> None:
    folder = world(seed, count, level)
    site = nibbet.open_site(ran if seed == 5 else folder)
    both, kept = against_truth(folder, site.pages()), build(count, seed, LEVELS[level])
    roles, told = roles_right(kept, site.queries()), promises(kept, site.verdicts(), site.groups(), 90)
    site.close()
    judged = both[both["verdict_true"] != ""]
    ours = macro_f1(judged["verdict_true"], judged["said"])
    sheet = against_truth(folder, plain_rules(folder))
    sheet = sheet[sheet["verdict_true"] != ""]
    theirs = macro_f1(sheet["verdict_true"], sheet["said"])
    with capsys.disabled():
        print(f"\n  seed {seed}, {level}: macro-F1 {ours:.3f}; plain spreadsheet rules on the same exports {theirs:.3f}")

    assert ours >= least
    assert theirs < 0.50
    assert (both.loc[both["verdict_true"] == "", "verdict"].fillna("") == "").all(), "error and redirecting addresses get no verdict"
    assert costly(both).empty
    assert roles["owner right"] >= 0.95
    assert roles["strays F1"] >= 0.85
    assert roles["answer right"] >= 0.95
    inside = told["true"].between(told["gain_low"], told["gain_high"])
    assert abs(inside.mean() - 0.8) <= 2.7 * np.sqrt(0.16 / len(told)), "80% intervals: eighty cases tell it to 12%, twenty to 24%"
    assert told["gain"].corr(told["true"], method="spearman") >= (0.75 if count > 60 else 0.65), "of twenty promises it differs by 0.1"
    merged = both[(both["case"] == "duplicate") & (both["verdict"] == "consolidate")]
    assert (merged["target"] == merged["target_true"]).mean() >= 0.95


PLANTED = ["noindex", "restore", "redirected", "chain", "orphan", "theme", "robots", "sitemap", "error"]


@pytest.mark.slow
def test_strays_become_proposals_and_nothing_answered_does(world: Callable[..., Path]) -> None:
    folder = world(5903, 400, "usual")
    site = nibbet.open_site(folder)
    topics, queries, aside = site.topics(), site.queries(), site.topics_aside()
    site.close()
    true = build(400, 5903, LEVELS["usual"])
    pairs = true.pairs[(true.pairs["query"] != "") & (true.pairs["role"] == "stray")]
    strays = set(HOME + pairs["page"].map(true.pages.set_index("page")["path"]) + " " + pairs["query"].str.lower())
    rows = queries[queries["query"].notna() & (queries["impressions"] > 0) & ~queries["brand"].fillna(False)]
    proposed = rows["topic"].isin(topics.loc[~topics["proposal"].isin(["none", "restore"]), "topic"])
    is_stray = (rows["page"] + " " + rows["query"]).isin(strays)
    assert is_stray[proposed].mean() >= 0.9, "precision"
    assert proposed[is_stray].mean() >= 0.8, "recall"
    assert not (rows["role"].eq("owner") & proposed & (rows["answer"] > 0.9)).any(), "nothing is proposed that a page answers"
    missing = topics[topics["topic"].isin(["hammock camping", "canoe sailing rig", "river camping stove"])]
    assert missing["proposal"].tolist() == ["new page"] * 3
    assert (missing["gain"] > 0).all()
    assert missing["page"].isna().all()
    abroad = true.pages.set_index("page")["case"].eq("abroad")
    asked = topics[topics["proposal"] == "translate"]
    assert set(asked["page"]) == set(HOME + true.pages.loc[true.pages["case"] == "abroad", "path"]), (
        "one translation for each page met abroad"
    )
    said = HOME + pairs["page"].map(true.pages.set_index("page")["path"]) + " " + pairs["query"].str.lower()
    foreign = set(said[pairs["page"].map(abroad)])
    in_them = (rows["page"] + " " + rows["query"]).isin(foreign)
    told = rows["topic"].isin(topics.loc[topics["language"].notna(), "topic"])
    assert in_them[told].mean() >= 0.95, "what is said to be in another language is"
    assert told[in_them].mean() >= 0.7
    known = rows.drop_duplicates("query")
    assert known["topic"].notna().sum() + aside["queries"].sum() >= len(known), "every query is in a topic or aside with a reason"


@pytest.mark.parametrize(("seed", "pages"), [(5, 60), pytest.param(4211, 400, marks=pytest.mark.slow)])
def test_planted_faults_are_found_with_their_targets(world: Callable[..., Path], ran: Path, seed: int, pages: int) -> None:
    folder = world(seed, pages)
    site = nibbet.open_site(ran if seed == 5 else folder)
    found, absent, notes = site.repairs(), site.absent(), {note["code"] for note in site.account["notes"]}
    site.close()
    truth = pd.read_csv(folder.parent / "truth.csv", keep_default_na=False).query("repair != ''")
    both = truth.merge(found[found["repair"].isin(PLANTED)], on=["page", "repair"], how="outer", indicator=True)
    assert set(truth["repair"]) == set(PLANTED)
    assert (both["_merge"] != "right_only").mean() >= 0.9, "precision"
    assert (both["_merge"] != "left_only").mean() >= 0.9, "recall"
    told = both[(both["_merge"] == "both") & (both["repair_target"] != "")]
    assert len(told) >= 3
    targeted = told[told["target_y"].notna()]
    assert len(targeted) >= 0.8 * len(told), "two pages of one name in different folders are a tie"
    assert (targeted["repair_target"] == targeted["target_y"]).mean() >= 0.9
    assert found["weight"].is_monotonic_decreasing
    unfetched = HOME.rstrip("/") + unfetched_of(build(pages, seed, LEVELS["easy"]))
    assert set(absent.loc[absent["cause"] == "unfetched", "page"]) == set(unfetched)
    assert "robots_lines" in notes
    assert found["because"].str.len().min() > 30


def judged(folder: Path) -> pd.DataFrame:
    site = nibbet.open_site(folder)
    found = site.pages()
    site.close()
    return found


@pytest.mark.slow
def test_verdicts_bear_what_is_missing(tmp_path: Path, world: Callable[..., Path]) -> None:
    truth = world(5, 60)
    shutil.copytree(truth, tmp_path / "site", ignore=shutil.ignore_patterns("out", ".nibbet"))
    workspace = tmp_path / "site"
    settings, before = (workspace / "nibbet.toml").read_text("utf-8"), judged(workspace)
    for name in ("crawl", "landings", "backlinks", "editorial", "pairs"):
        without_source(workspace, name)
        found = against_truth(truth, judged(workspace))
        assert costly(found).empty, name
        assert found["verdict"].notna().mean() > 0.8, name
        (workspace / "nibbet.toml").write_text(settings, "utf-8")
    days = pd.date_range(FIRST_DAY, LAST_COMPLETE_DAY)[:-1]
    lost = np.random.default_rng(3).choice(len(days), len(days) // 20, replace=False)
    without_days(workspace, [days[n] for n in sorted(lost)])
    both = before.merge(judged(workspace), on="page", suffixes=("", "_then"))
    assert (both["clicks_long_then"] < both["clicks_long"]).mean() > 0.5
    assert (both["verdict"].fillna("") == both["verdict_then"].fillna("")).mean() >= 0.97
