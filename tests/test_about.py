"""The business beside the data decides which topics are for it."""

from __future__ import annotations

import shutil
from pathlib import Path

import pandas as pd
import pytest

import nibbet
from nibbet.cli.main import main
from nibbet.core.about import topic_fit
from nibbet.core.business import read_notes
from nibbet.core.words import Lexicon
from nibbet.errors import ConfigError

NOTES = """# Tarnbrook
Not read: kites

## What we sell:
- Kayak hire, canoe hire
* paddling courses.
## Für wen
1. beginners; families
### Tone of voice
Plain, friendly, never clever.
## Wir wollen nicht gefunden werden: nicht
dog walking
## Competitors
- Paddlehaus
"""


def test_notes_are_read_by_their_headings() -> None:
    assert read_notes(NOTES) == {
        "sells": ["Kayak hire", "canoe hire", "paddling courses"],
        "audience": ["beginners", "families"],
        "tone": ["Plain, friendly, never clever"],
        "unwanted": ["dog walking"],
        "rivals": ["Paddlehaus"],
    }
    assert not any(read_notes("no heading\n- one").values())
    assert len(read_notes("# Sell\n" + "- x\n" * 9000)["sells"]) <= 200


def test_topics_fit_by_the_words_that_tell() -> None:
    asked = {"hire kayak elver": "fit", "canoes for hire": "fit", "kayak roof rack": "unclear", "dogs walking elver": "unfit", "paddlehaus kayak hire": "unclear", "elver map": "unclear", "dog beds": "unclear"}  # fmt: skip
    topics = pd.Series(list(asked))
    queries = pd.DataFrame({"query": topics, "topic": topics, "volume": 100})
    told = {"sells": ["kayak hire", "canoe hire"], "rivals": ["Paddlehaus"], "unwanted": ["dog walking"]}
    found = topic_fit(topics, queries, **told, lexicon=Lexicon())
    assert dict(zip(topics, found["fit"], strict=True)) == asked
    assert found["fit_because"].iloc[3] == 'not wanted: "dog walking"'
    assert topic_fit(topics, queries, sells=[], rivals=[], unwanted=[], lexicon=Lexicon()).isna().all(axis=None)


def test_what_is_not_wanted_is_not_proposed(ran: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    folder = tmp_path / "site"
    shutil.copytree(ran, folder)
    settings, before = folder / "nibbet.toml", pd.read_csv(folder / "out" / "topics.csv")
    shut = before[(before["served"] == "uncovered") & (before["proposal"] == "new page")].iloc[0]
    (folder / "about.md").write_text(f"## Not wanted\n- {shut['label']}\n## Tone\nPlain words\n")
    settings.write_text(settings.read_text().replace('notes = "about.md"', 'notes = "about.md"\nsells = "kayak hire"'))
    with nibbet.open_site(folder) as site:
        after, openings = site.topics().set_index("topic"), site.openings()
        other = after[after["proposal"] != "none"].index[0]
    mine = after.loc[shut["topic"]]
    assert (mine["fit"], mine["proposal"]) == ("unfit", "none")
    assert mine["because"].startswith("Left alone, not wanted")
    assert not openings.loc[openings["kind"] == "stray", "query"].eq(shut["label"]).any()
    assert (after["fit"] == "fit").any()
    assert main(["topics", "--brief", other, str(folder), "-q"]) == 0
    assert "- Tone: Plain words" in capsys.readouterr().out
    assert main(["topics", "--pack", "9000", str(folder), "-q"]) == 0
    assert '"Plain words"' in capsys.readouterr().out
    (folder / "about.md").unlink()
    with pytest.raises(ConfigError, match=r"about\.md"):
        nibbet.open_site(folder)
