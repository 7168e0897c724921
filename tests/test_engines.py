"""One set of expressions on several engines: equal tables from Spark, and rows that already lie in an engine."""

from __future__ import annotations

import shutil
import tempfile
from pathlib import Path

import duckdb
import pandas as pd
import pytest

import nibbet
from nibbet.cli.main import main

SETTINGS = '[site]\nhome = "https://tarnbrook.example/"\n[[source]]\nkind = "search"\n{source}\n[engine]\nbackend = "{backend}"\n'
ROWS = pd.DataFrame(
    {
        "date": pd.date_range("2026-08-01", periods=80).repeat(3),
        "page": ["https://tarnbrook.example/a/", "http://www.tarnbrook.example/a", "/b/"] * 80,
        "query": ["Sea  Kayak", "sea kayak", "(unknown)"] * 80,
        "clicks": [3, 2, 1] * 80,
        "impressions": [40, 30, 20] * 80,
        "position": [2.0, 2.5, 8.1] * 80,
    }
)


def test_a_table_of_a_database_is_read_where_it_lies(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    with duckdb.connect(str(tmp_path / "rows.db")) as base:
        base.register("given", ROWS)
        base.execute("CREATE TABLE search_rows AS SELECT * FROM given")
    (tmp_path / "nibbet.toml").write_text(SETTINGS.format(source='table = "search_rows"', backend="duckdb://rows.db"))
    site = nibbet.open_site(tmp_path)
    ours = site.pages()
    site.close()
    frames = nibbet.Site(home="https://tarnbrook.example/", search=ROWS)
    assert ours.equals(frames.pages())
    frames.close()
    (tmp_path / "nibbet.toml").write_text(SETTINGS.format(source='table = "rows"', backend="duckdb://rows.db"))
    assert main(["load", str(tmp_path), "-q"]) == 2
    assert "search_rows" in capsys.readouterr().err, "the tables that are there are named"
    (tmp_path / "nibbet.toml").write_text(SETTINGS.format(source='table = "rows"', backend="duckdb://nothing.db"))
    assert main(["load", str(tmp_path), "-q"]) == 2
    assert "nothing.db" in capsys.readouterr().err
    (tmp_path / "nibbet.toml").write_text(SETTINGS.format(source='table = "rows"', backend="oracle"))
    assert main(["load", str(tmp_path), "-q"]) == 2
    assert "backend" in capsys.readouterr().err


spark = pytest.mark.skipif(shutil.which("java") is None, reason="Spark needs Java")


@spark
@pytest.mark.filterwarnings("ignore")
@pytest.mark.slow
def test_two_sites_on_spark_keep_out_of_each_others_way(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from pyspark.sql import SparkSession

    from nibbet.engine.spark import SparkEngine

    monkeypatch.setattr(tempfile, "tempdir", str(tmp_path))
    one, other = SparkEngine(memory="1GB"), SparkEngine(memory="1GB")
    first = one.frame(pd.DataFrame({"clicks": [1, 2]}))
    second = other.frame(pd.DataFrame({"clicks": [30]}))
    assert one.fetch(first)["clicks"].tolist() == [1, 2], "a name that both would give means what it meant"
    kept = other.keep(second)
    one.close()
    one.close()
    assert other.fetch(kept)["clicks"].tolist() == [30], "closing one leaves the other its session"
    assert {view.name for view in other.session.catalog.listTables()} == set(other._views)
    other.close()
    assert SparkSession.getActiveSession() is None
    assert not list(tmp_path.glob("nibbet-*")), "nothing is left behind"


@spark
@pytest.mark.filterwarnings("ignore")
@pytest.mark.slow
def test_spark_gives_the_same_tables(short: Path, tmp_path: Path) -> None:
    pytest.importorskip("pyspark")
    from pyspark.sql import SparkSession

    ran, target = (Path(shutil.copytree(short, tmp_path / name)) for name in ("a", "b"))
    assert main(["run", str(ran), "-q"]) == 0
    toml = target / "nibbet.toml"
    toml.write_text(toml.read_text() + '\n[engine]\nbackend = "pyspark"\nmemory = "2GB"\n')
    session = (
        SparkSession.builder.master("local[2]")
        .config("spark.ui.enabled", "false")
        .config("spark.sql.session.timeZone", "UTC")
        .config("spark.sql.shuffle.partitions", "1")
        .config("spark.sql.adaptive.enabled", "false")
        .getOrCreate()
    )
    try:
        assert main(["run", str(target), "-q"]) == 0
        for name in (
            "pages.csv",
            "queries.csv",
            "openings.csv",
            "groups.csv",
            "redirects.csv",
            "addresses.csv",
            "account.json",
            "changes.csv",
            "trends.csv",
            "pulls.csv",
        ):
            assert (target / "out" / name).read_bytes() == (ran / "out" / name).read_bytes(), name
        here, there = nibbet.open_site(ran), nibbet.open_site(target)
        for table in ("days", "devices"):
            question = f"SELECT * FROM {table} ORDER BY ALL"
            pd.testing.assert_frame_equal(here.sql(question), there.sql(question), rtol=1e-9, check_dtype=False)
        session.createDataFrame(ROWS).createOrReplaceTempView("search_rows")
        (tmp_path / "nibbet.toml").write_text(SETTINGS.format(source='table = "search_rows"', backend="pyspark"))
        lying = nibbet.open_site(tmp_path)
        frames = nibbet.Site(home="https://tarnbrook.example/", search=ROWS)
        pd.testing.assert_frame_equal(lying.pages(), frames.pages(), rtol=1e-9, check_dtype=False)
        for site in (here, there, lying, frames):
            site.close()
    finally:
        session.stop()
