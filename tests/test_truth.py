"""Verdicts against the demo's hidden truth, on seeds that were not used while building."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest

import nibbet
from score import NEVER_PRUNED, against_truth, macro_f1, plain_rules

UNSEEN = [(4211, "easy", 0.90), (5903, "usual", 0.90), (8117, "hard", 0.80)]


@pytest.mark.parametrize(("seed", "level", "least"), UNSEEN)
def test_verdicts_agree_with_the_truth_and_never_cost_a_page_that_matters(
    world: Callable[..., Path], seed: int, level: str, least: float, capsys: pytest.CaptureFixture[str]
) -> None:
    folder = world(seed, 400, level)
    site = nibbet.open_site(folder)
    both = against_truth(folder, site.pages())
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
    assert not (both["case"].isin(NEVER_PRUNED) & (both["verdict"] == "prune")).any()
    assert not ((both["case"] == "look_alike") & (both["verdict"] == "consolidate")).any()
    merged = both[(both["case"] == "duplicate") & (both["verdict"] == "consolidate")]
    assert (merged["target"] == merged["target_true"]).mean() >= 0.95
