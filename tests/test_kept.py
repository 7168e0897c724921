"""What is kept is named by all that decides it, and serves only while it is whole."""

from __future__ import annotations

import importlib.metadata
import json
import re
import warnings
from collections.abc import Callable, Iterator
from datetime import date
from pathlib import Path
from types import SimpleNamespace
from typing import Any, get_args

import pandas as pd
import pytest

import nibbet
from nibbet.config import Config, load_config, make_config
from nibbet.core.ledger import with_pull
from nibbet.core.thresholds import Thresholds
from nibbet.engine.sql import value_of
from nibbet.engine.store import Store, key_of, libraries
from nibbet.pipeline import Pipeline
from nibbet.scopes import RESULTS, SUMS, scope, values_of

HOME = "https://tarnbrook.example/"
#: settings that change no result
NO_RESULT = {"engine.memory", "engine.threads"}


def hand_made(folder: Path, settings: str = "") -> Path:
    """A small workspace: two pages over 100 days, visits in two currencies."""
    days = pd.date_range("2026-07-24", "2026-10-31")
    rows = [(day.date(), f"/{page}/", f"{page} trip", 3, 90, 4.5) for day in days for page in ("canoe", "kayak")]
    pd.DataFrame(rows, columns=["date", "page", "query", "clicks", "impressions", "position"]).to_csv(folder / "search.csv", index=False)
    visits = [(day.date(), "/canoe/", "organic", 5, 1, 10) for day in days]
    pd.DataFrame(visits, columns=["date", "page", "channel", "sessions", "conversions", "revenue"]).to_csv(
        folder / "visits.csv", index=False
    )
    (folder / "nibbet.toml").write_text(
        f'[site]\nhome = "{HOME}"\n[[source]]\nkind = "search"\nfiles = "search.csv"\n[[source]]\nkind = "landings"\nfiles = "visits.csv"\n'
        f'currency = "SEK"\n[value]\ncurrency = "EUR"\nrates = {{ SEK = 0.1 }}\n{settings}'
    )
    return folder


def every_setting(model: Any, at: str = "") -> Iterator[tuple[str, Any]]:
    """Every setting by its dotted name, with its field."""
    for name, field in model.model_fields.items():
        if isinstance(field.annotation, type) and hasattr(field.annotation, "model_fields"):
            yield from every_setting(field.annotation, f"{at}{name}.")
        else:
            yield at + name, field


def other_value(name: str, field: Any, now: Any) -> Any:
    """A value that a setting does not have now."""
    special = {
        "site.home": "https://kestrelgate.example/", "site.language": "german", "site.as_of": date(2026, 10, 1), "windows.reference": "before",
        "verdicts.prune_needs": "none", "engine.backend": "pyspark", "engine.memory": "2GB", "value.conversion": 12.0, "verdicts.climb_position": (4.0, 9.0),
        "source": [{"kind": "search", "files": ["search.csv"], "where": {"query": "canoe trip"}}], "windows.recent": 28, "windows.counted_since": date(2026, 5, 12), "engine.threads": 1,
    }  # fmt: skip
    if name in special:
        return special[name]
    kind = now if now is not None else next(iter(get_args(field.annotation)))
    if isinstance(kind, bool):
        return not kind
    return {int: lambda: now + 1, float: lambda: now * 0.9, str: lambda: now + "x", list: lambda: ["canoe"], dict: lambda: {"a": 2.0} if "rates" in name else {"a": ["canoe"]}}[type(kind)]()  # fmt: skip


def changed(config: Config, name: str, value: Any) -> Config:
    given = config.model_dump()
    inner = given
    *path, last = name.split(".")
    for part in path:
        inner = inner[part]
    inner[last] = value
    return make_config(given)


def test_every_setting_is_in_the_keys_of_what_rests_on_it(tmp_path: Path) -> None:
    config = load_config(hand_made(tmp_path) / "nibbet.toml")
    names = dict(every_setting(Config))
    assert len(names) > 45
    for name, field in names.items():
        now: Any = config
        for part in name.split("."):
            now = getattr(now, part)
        other = changed(config, name, other_value(name, field, now))
        sums, results = (values_of(config, part) != values_of(other, part) for part in (SUMS, RESULTS))
        assert results == (name not in NO_RESULT), f"{name}: verdicts are {'kept' if not results else 'thrown away'}"
        assert not sums or results, "what sums rest on, results do"


def test_sums_are_made_without_any_other_setting(tmp_path: Path) -> None:
    config = load_config(hand_made(tmp_path) / "nibbet.toml")
    pipeline = Pipeline(config, tmp_path, {}, Store(None), "key", lambda _: None)
    vars(pipeline.context)["config"] = scope(config, SUMS)
    assert pipeline.sums.pages["clicks_recent"].sum() == 540
    assert pipeline.inputs.windows.recent.days == 90
    assert len(pipeline.expectation.pairs) == 2
    assert pipeline.sums.visits_by("page_id") is None
    assert pipeline.expectation.curve.rates["rate"].notna().all()
    for name in ("search", "landings", "days", "weeks", "devices", "countries", "surfaces", "sections"):
        pipeline.questions.keep(name)
    with pytest.raises(AttributeError, match=r"may not read the setting (protect|verdicts)"):
        pipeline.decisions.ledger_table()


@pytest.mark.parametrize(
    ("settings", "after", "same"),
    [
        ("[engine]\nmemory = '2GB'\n", "", True),
        ("[windows]\nrecent = 90\n", "[windows]\nrecent = 28\n", False),
        ("", "rates = { SEK = 0.2 }", False),
        ("[verdicts]\nmin_gain = 4\n", "[verdicts]\nmin_gain = 900\n", False),
    ],
)
@pytest.mark.slow
def test_a_changed_setting_gives_what_a_fresh_store_gives(settings: str, after: str, same: bool, tmp_path: Path) -> None:
    hand_made(tmp_path, settings)
    first = nibbet.open_site(tmp_path).pages()
    toml = tmp_path / "nibbet.toml"
    text = toml.read_text()
    toml.write_text(text.replace("rates = { SEK = 0.1 }", after) if "rates" in after else text.replace(settings, after))
    kept = len(list((tmp_path / ".nibbet").iterdir()))
    again = nibbet.open_site(tmp_path).pages()
    for path in (tmp_path / ".nibbet").iterdir():
        path.unlink()
    fresh = nibbet.open_site(tmp_path).pages()
    pd.testing.assert_frame_equal(again, fresh)
    assert first.equals(again) == (same or "min_gain" in after)
    if "rates" in after:
        assert again["revenue"].sum() == pytest.approx(2 * first["revenue"].sum())
    assert kept > 20


def test_every_threshold_is_obeyed_by_the_rules() -> None:
    core = Path(nibbet.__file__).parent
    code = "".join(path.read_text() for path in [*(core / "core").rglob("*.py"), *(core / "pipeline").glob("*.py")])
    unread = [name for name in Thresholds.model_fields if not re.search(rf"(\bt|limits|verdicts)\.{name}\b", code)]
    assert not unread, "a threshold that nothing reads"
    pages = pd.DataFrame({"clicks": [9], "impressions": [90]})
    pair = {
        "page": 0,
        "query": "q",
        "clicks": 9,
        "impressions": 90,
        "expected_clicks": 8.0,
        "answer": 0.6,
        "brand": False,
        "junk": None,
        "role": "owner",
    }
    pairs = pd.DataFrame([{**pair, "position": 2.0, "position_sum": 180.0, "placed": 90, "clicks_reference": 5, "expected_clicks_reference": 6.0}])
    assert with_pull(pages.copy(), pairs, 0.5)["clicks_answered"].tolist() == [9]
    assert with_pull(pages.copy(), pairs, 0.7)["clicks_answered"].tolist() == [0]


def test_a_renamed_file_is_named_as_it_is_now(tmp_path: Path) -> None:
    folder = hand_made(tmp_path)
    text = (folder / "visits.csv").read_text()
    (folder / "visits.csv").write_text(text + text.splitlines()[-1] + "\n")
    notes = nibbet.open_site(folder).account["notes"]
    assert any(note["code"] == "repeated" and "visits.csv" in note["text"] for note in notes)
    (folder / "visits.csv").rename(folder / "landings.csv")
    (folder / "nibbet.toml").write_text((folder / "nibbet.toml").read_text().replace("visits.csv", "landings.csv"))
    said = [note["text"] for note in nibbet.open_site(folder).account["notes"] if note["code"] == "repeated"]
    assert len(said) == 1
    assert said[0].startswith("landings.csv: 1 row")


def test_libraries_are_part_of_the_program(monkeypatch: pytest.MonkeyPatch) -> None:
    names = [name for name, _ in libraries()]
    assert {"numpy", "scipy", "pandas", "duckdb", "pystemmer", "scikit-network", "python"} <= set(names)
    before = key_of(libraries())
    real = importlib.metadata.distribution

    def other(name: str) -> object:
        return SimpleNamespace(read_text=lambda _: "Name: scipy\nVersion: 0.0\n") if name == "scipy" else real(name)

    monkeypatch.setattr("importlib.metadata.distribution", other)
    assert key_of(libraries()) != before


def _cut(path: Path) -> None:
    path.write_bytes(path.read_bytes()[: path.stat().st_size // 2])


def _empty(path: Path) -> None:
    path.write_bytes(b"")


def _flipped(path: Path) -> None:
    content = bytearray(path.read_bytes())
    content[len(content) // 3] ^= 0xFF
    path.write_bytes(bytes(content))


@pytest.mark.parametrize("damage", [_cut, _empty, _flipped])
@pytest.mark.slow
def test_a_damaged_kept_file_is_made_anew(damage: Callable[[Path], None], tmp_path: Path) -> None:
    hand_made(tmp_path)
    site = nibbet.open_site(tmp_path)
    first, account = site.pages(), dict(site.account)
    site.close()
    kept = [path for path in (tmp_path / ".nibbet").iterdir() if path.suffix in (".parquet", ".json") and path.name != "manifest.json"]
    assert {"rows", "pairs", "table", "account"} <= {path.name.split("-")[0] for path in kept}
    for path in kept:
        damage(path)
    (tmp_path / ".nibbet" / "manifest.json").write_text("{")
    again = nibbet.open_site(tmp_path)
    pd.testing.assert_frame_equal(again.pages(), first)
    assert again.account == account
    assert again.sql("SELECT count(*) AS n FROM pages")["n"].tolist() == [len(first)]
    again.close()


@pytest.mark.slow
def test_what_a_site_uses_is_not_taken_away(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    hand_made(tmp_path)
    store = tmp_path / ".nibbet"
    other, clock = nibbet.open_site(tmp_path), SimpleNamespace(time=lambda: 4_000_000_000.0)
    other.pages()
    (store / f"reader-{1}").touch()  # a process that lives
    with monkeypatch.context() as later:
        later.setattr("nibbet.engine.store.time", clock)
        other._store.save()
    assert list(store.glob("rows-*")), "another process reads here"
    (store / f"reader-{1}").unlink()
    (store / "reader-999999999").touch()  # one that does not
    with monkeypatch.context() as later:
        later.setattr("nibbet.engine.store.time", clock)
        other._store.save()
    assert not list(store.glob("rows-*"))
    assert not (store / "reader-999999999").exists()
    other.close()


def test_fresh_takes_nothing_from_who_reads(tmp_path: Path) -> None:
    hand_made(tmp_path)
    reader = nibbet.open_site(tmp_path)
    reader.load()
    writer = nibbet.open_site(tmp_path)
    before = {path.name for path in (tmp_path / ".nibbet").glob("*.parquet")}
    writer._store.clear()
    assert {path.name for path in (tmp_path / ".nibbet").glob("*.parquet")} == before
    assert len(reader.pages()) == 2
    writer.load(fresh=True)
    assert (
        json.loads((tmp_path / ".nibbet" / "manifest.json").read_text() if (tmp_path / ".nibbet" / "manifest.json").exists() else "{}")
        is not None
    )
    assert len(reader.pages()) == 2


def test_other_windows_rest_on_the_same_calibration(tmp_path: Path) -> None:
    site = nibbet.open_site(hand_made(tmp_path))
    calibration = site._pipeline.expectation.calibration
    for days in (28, 21, 14):
        site.compare(days, "before")
    for windows, comparison in site._pipeline._comparisons.items():
        other = comparison.expectation.calibration
        assert windows.recent.days < 28, "the sums of few comparisons stay in memory"
        assert other.curve is calibration.curve
        assert other.countries is calibration.countries
        assert other.sight is calibration.sight
    site.close()


@pytest.mark.parametrize(
    ("text", "value"),
    [
        ("12", 12), ("-3", -3), ("0", 0), ("2.50", 2.5), ("-0.5", -0.5), ("true", True), ("False", False), ("2026-10-31", date(2026, 10, 31)),
        *[(text, text) for text in ("nan", "NaN", "inf", "-inf", "007", "0x1f", "1_000", "1e5", "+5", " 5", "٣", ".5", "5.", "2026-13-01", "canoe")],
    ],
)  # fmt: skip
def test_values_mean_what_is_written(text: str, value: object) -> None:
    assert value_of(text) == value
    assert type(value_of(text)) is type(value)


def test_a_fault_inside_is_not_taken_for_an_unknown_query(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    site = nibbet.open_site(hand_made(tmp_path))
    with pytest.raises(nibbet.errors.NotFoundError, match="No source knows the query"):
        site.between("canoe trip", "never asked")
    with pytest.raises(nibbet.errors.NotFoundError, match="No topic has the query"):
        site.brief("never asked")
    monkeypatch.setattr("nibbet.core.ideas._cosine", lambda *_: {}["missing"])
    with pytest.raises(KeyError, match="missing"):
        site.between("canoe trip", "kayak trip")
    site.close()


@pytest.mark.slow
def test_settings_of_the_users_own_session_stay(tmp_path: Path) -> None:
    import matplotlib as mpl

    from nibbet.render.canvas import as_svg
    from nibbet.render.figures import verdict_overview

    mpl.rcParams["font.size"] = 33.0
    before, filters = dict(mpl.rcParams), list(warnings.filters)
    site = nibbet.open_site(hand_made(tmp_path))
    figure = verdict_overview(site.pages())
    drawn = as_svg(figure)
    assert dict(mpl.rcParams) == before
    assert warnings.filters == filters
    mpl.rcParams["font.size"] = 4.0
    assert as_svg(verdict_overview(site.pages())) == drawn, "nor do they change ours"
    mpl.rcdefaults()
    site.close()
