"""Demo worlds are written once and shared by all workers; tests that change files take a copy."""

from __future__ import annotations

import gc
import shutil
from collections.abc import Callable
from pathlib import Path

import pytest
from filelock import FileLock
from hypothesis import settings

from nibbet.cli.main import SELDOM, main
from nibbet.demo.exports import write

settings.register_profile("quick", deadline=None, max_examples=40)  # how busy a machine is says nothing of the program
settings.register_profile("thorough", deadline=None, max_examples=200)
gc.set_threshold(*SELDOM)  # as the program does


#: files whose tests share nothing that is dear: any worker takes them in portions of so many
IN_PORTIONS = {
    "test_dress.py": 4,
    "test_reading.py": 30,
    "test_bad_input.py": 40,
    "test_shapes.py": 12,
    "test_store.py": 5,
    "test_engines.py": 1,
}


#: the file whose worker makes the workspace that others share
FIRST = "test_about.py"

#: tests with many cases of one kind: the quick run takes every so many, `make test-all` each
SAMPLED = {
    "test_every_habit_gives_the_same_ledger": 6,
    "test_what_only_later_rows_show_is_read_as_they_say": 3,
    "test_a_flag_has_the_direction_of_its_header": 7,
    "test_answers_of_services_are_read": 6,
    "test_windows_side_by_side_are_two": 6,
    "test_a_set_of_columns_for_each_month_is_read_to_the_click": 2,
    "test_frames_of_any_library_give_the_same_ledger": 4,
    "test_events_are_read_and_shown": 3,
    "test_what_is_liked_is_found_with_what_it_has_in_common": 2,
    "test_languages_are_counted_by_country_and_weighed_by_what_it_buys": 2,
    "test_what_cannot_be_used_is_refused_with_the_mend": 3,
    "test_odd_rows_are_set_aside_with_a_reason": 3,
    "test_unusable_input_gets_one_message_and_nothing_is_written": 3,
    "test_each_absent_page_has_its_cause": 2,
    "test_links_to_faults_and_missing_links_are_told": 2,
    "test_changes_are_real_and_their_intervals_hold_the_truth": 3,
    "test_a_folder_is_read_whole_from_inside_and_outside": 2,
    "test_rows_without_days_do_not_tell_what_rises_or_began": 2,
    "test_planted_lives_are_told_of_pages_and_topics": 2,
    "test_they_are_read_told_and_repaired": 2,
    "test_new_lost_and_failing_links_are_told": 2,
    "test_pages_are_rated_and_repaired": 2,
    "test_chance_is_called_lasting_as_rarely_however_long_the_history": 3,
    "test_the_newest_inventory_is_believed": 3,
    "test_queries_of_one_window_alone_tell_no_change": 4,
    "test_two_meanings_of_engagement_stay_apart": 5,
    "test_the_same_path_on_two_hosts_is_two_pages": 2,
    "test_a_list_of_posts_gives_dates_by_address_or_slug_and_its_drafts_are_no_pages": 2,
    "test_rows_of_other_lengths_far_down_are_set_aside": 3,
    "test_odd_cells_load": 3,
    "test_hostile_text_stays_text": 2,
    "test_queries_without_pages_are_compared_where_they_cover_both_windows": 3,
    "test_other_surfaces_stand_beside_pages_and_are_not_added": 2,
    "test_a_page_that_moved_is_compared_with_its_old_address": 2,
    "test_breadcrumbs_make_a_hub_where_addresses_are_flat": 3,
    "test_a_table_of_one_surface_never_takes_the_place_of_web_search": 2,
    "test_sessions_near_clicks_are_no_news": 2,
    "test_what_is_said_to_one_robot_counts_where_it_is_a_search_engines": 2,
    "test_changes_without_days_on_both_sides_are_told_as_such": 2,
    "test_no_window_cuts_a_month_or_a_week": 2,
    "test_the_curve_is_near_and_titles_are_flagged_with_few_false_alarms": 2,
    "test_more_pages_make_surer": 2,
    "test_a_name_above_its_rows_counts_for_each_of_them_and_totals_for_none": 2,
    "test_a_row_for_each_measure_is_read_as_columns": 2,
    "test_days_told_in_other_columns_give_the_same_clicks_and_whole_windows": 3,
}


def pytest_configure(config: pytest.Config) -> None:
    """Laws are tried with fewer examples where tests marked slow are left out."""
    settings.load_profile("quick" if "not slow" in config.option.markexpr else "thorough")


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """The tests of a file stay with one worker, who makes what they share; those of some files are dealt out in portions."""
    count: dict[str, int] = {}
    of_test: dict[str, int] = {}
    for item in items:
        kind = getattr(item, "originalname", item.name)
        of_test[kind] = of_test.get(kind, -1) + 1
        if of_test[kind] % SAMPLED.get(kind, 1):
            item.add_marker(pytest.mark.slow)
        name = item.path.name
        number = count[name] = count.get(name, -1) + 1
        portion = f" {number // IN_PORTIONS[name]}" if name in IN_PORTIONS else ""
        item.add_marker(pytest.mark.xdist_group(f"{name}{portion}"))
    of_run = {item.path.name for item in items if "ran" in getattr(item, "fixturenames", ())} - {FIRST}
    items.sort(
        key=lambda item: (item.path.name != FIRST, item.path.name in of_run)
    )  # one worker makes it while others do what needs it not


@pytest.fixture(scope="session")
def world(tmp_path_factory: pytest.TempPathFactory) -> Callable[..., Path]:
    """A function of (seed, pages, level) that gives the workspace of that demo world; written once."""
    base = tmp_path_factory.getbasetemp()
    root = (base.parent if base.name.startswith("popen") else base) / "worlds"
    root.mkdir(exist_ok=True)

    def make(seed: int, pages: int = 120, level: str = "easy") -> Path:
        folder = root / f"{seed}-{pages}-{level}" / "site"
        with FileLock(root / f"{folder.parent.name}.lock"):
            if not (folder / "nibbet.toml").exists():
                folder.mkdir(parents=True, exist_ok=True)
                write(folder, pages=pages, seed=seed, level=level)
        return folder

    return make


@pytest.fixture(scope="session")
def ran(world: Callable[..., Path], tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A small demo workspace on which `nibbet run` has been run: once, and each worker has a copy."""
    first = world(5, 60).parent / "ran"
    with FileLock(f"{first}.lock"):
        if not (first / "out" / "report.html").exists():
            shutil.copytree(world(5, 60), first, ignore=shutil.ignore_patterns("out", ".nibbet"))
            assert main(["run", str(first), "-q"]) == 0
    folder = tmp_path_factory.mktemp("ran") / "site"
    shutil.copytree(first, folder)
    return folder


@pytest.fixture(scope="session")
def short(world: Callable[..., Path], tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The smallest demo workspace with the searches of its last half year alone: for tests to which neither size nor a year matters."""
    folder = tmp_path_factory.mktemp("short") / "site"
    shutil.copytree(world(5, 60), folder, ignore=shutil.ignore_patterns("out", ".nibbet", "*-2025*", "*-2026q1*", "*-2026-0[1-4]*"))
    return folder


@pytest.fixture
def workspace(world: Callable[..., Path], tmp_path: Path) -> Path:
    """A copy of a small demo workspace, free to be damaged."""
    target = tmp_path / "site"
    shutil.copytree(world(5, 60), target, ignore=shutil.ignore_patterns("out", ".nibbet"))
    return target
