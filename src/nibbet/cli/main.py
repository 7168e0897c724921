"""The command line: parses, calls the Site, prints, and returns an exit code."""

from __future__ import annotations

import gc
import sys
import time
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer
import typer.core

from nibbet._version import __version__
from nibbet.cli import crawl, look  # noqa: F401 - their commands register themselves
from nibbet.cli.app import app
from nibbet.cli.opening import chosen_rows, harmless, with_site
from nibbet.cli.options import (
    AsOf,
    Exports,
    Folder,
    Form,
    Format,
    Hardness,
    Quiet,
    SiteFolder,
    Top,
    Verbose,
    Where,
)
from nibbet.core.verdict import Verdict
from nibbet.errors import NibbetError, is_interrupt

if TYPE_CHECKING:
    import pandas as pd

    from nibbet.core.windows import Windows
    from nibbet.site import Site


#: the exit code of an interrupted command, as in shells
INTERRUPTED = 130
#: how often cycles of objects are looked for: building queries makes many objects and hardly a cycle, so the default costs a tenth of a run
SELDOM = (100_000, 50, 100)


def main(arguments: Sequence[str] | None = None) -> int:
    """Run one command; returns its exit code: 0 done, 2 wrong usage or unusable input, 1 a fault of Nibbet."""
    given = list(sys.argv[1:] if arguments is None else arguments)
    try:
        if (
            app(args=given, prog_name="nibbet", standalone_mode=False) == INTERRUPTED
        ):  # the parser catches the interrupt and returns this code
            raise KeyboardInterrupt
    except NibbetError as fault:
        sys.stderr.write(f"nibbet: {harmless(str(fault))}\n")
        return 2
    except typer.Exit as leave:
        return int(leave.exit_code)
    except (KeyboardInterrupt, typer.Abort):
        return _interrupted()
    except BrokenPipeError:
        return 0
    except Exception as fault:
        return _interrupted() if is_interrupt(fault) else _other(fault, given)
    return 0


def _interrupted() -> int:
    if sys.stderr.isatty():
        sys.stderr.write("\x1b[?25h\r\x1b[K")  # restore the cursor and clear the line of a progress bar
    sys.stderr.write("nibbet: interrupted; what was written before is whole.\n")
    return INTERRUPTED


def _other(fault: Exception, given: list[str]) -> int:
    show = getattr(fault, "show", None)
    if show is not None:  # the parser's own error message
        show(file=sys.stderr)
        return 2
    if "-v" in given or "--verbose" in given:
        import traceback

        traceback.print_exc()
    sys.stderr.write(
        f"nibbet: a fault of Nibbet, not of your data: {type(fault).__name__}: {harmless(str(fault))}. Please report it; -v shows where.\n"
    )
    return 1


def run() -> None:
    """The program's entry."""
    from nibbet.cli.interrupt import leave, watched

    gc.set_threshold(*SELDOM)
    with watched(_interrupted):
        code = main()
        if code == INTERRUPTED:
            leave(code)
    sys.stdout.flush()
    sys.exit(code)


@app.callback(invoke_without_command=True)
def _nibbet(version: Annotated[bool, typer.Option("--version", help="Print the version.")] = False) -> None:
    if version:
        sys.stdout.write(f"nibbet {__version__}\n")
        raise typer.Exit


@app.command(short_help="Write an invented site's exports and run everything.")
def demo(
    folder: Annotated[Path, typer.Argument(help="Where to write the demo workspace.")] = Path("tarnbrook"),
    pages: Annotated[int, typer.Option(min=60, help="About how many pages the invented site has.")] = 400,
    seed: Annotated[int, typer.Option(help="Another seed makes another site.")] = 7,
    level: Annotated[Hardness, typer.Option(help="How clear the planted cases are.")] = Hardness.easy,
    exports: Annotated[Exports, typer.Option(help="Shape of its exports.")] = Exports.daily,
    serve: Annotated[bool, typer.Option("--serve", help="Serve the site itself on this machine instead, for a crawl.")] = False,
    port: Annotated[int, typer.Option(metavar="N", min=0, max=65_535, help="Its port; 0 for any free port.")] = 8460,
    quiet: Quiet = False,
    verbose: Verbose = False,
) -> None:
    """Write the exports of an invented site and run everything on them; or serve its pages, with their faults, for a crawl."""
    from nibbet.cli.progress import Progress
    from nibbet.demo.exports import write

    if serve:
        _serve(pages, seed, level.value, port)
        return

    progress = Progress(quiet=quiet, verbose=verbose)
    if folder.exists() and any(folder.iterdir()) and not (folder / "inventory.xlsx").exists():
        raise NibbetError(f"{folder} holds other files. Name an empty folder: nibbet demo FOLDER")
    progress(f"writing 16 months of Tarnbrook into {folder}")
    written = 0.0

    def on_share(share: float) -> None:
        nonlocal written
        written = share

    progress.share = lambda: written or None
    try:
        write(folder, pages=pages, seed=seed, level=level.value, on_share=on_share)
        if exports is not Exports.daily:
            from nibbet.demo.shapes import reshape

            reshape(folder, exports.value)
    except FileExistsError as there:
        raise NibbetError(f"{there} is there already and is not of the demo. Move it, or name another folder: nibbet demo FOLDER") from None
    except OSError as fault:
        raise NibbetError(f"{folder} cannot be written ({fault.strerror or fault}). Name another folder: nibbet demo FOLDER") from None
    finally:
        progress.done()
    _run_all(folder, None, None, quiet, verbose, None)


def _serve(pages: int, seed: int, level: str, port: int) -> None:
    """Serve the demo's site until an interrupt."""
    from nibbet.demo.builder import LEVELS
    from nibbet.demo.exports import HOME
    from nibbet.demo.scenario import build
    from nibbet.demo.serve import serving

    try:
        with serving(build(pages, seed, LEVELS[level]), port) as address:
            sys.stdout.write(f"Tarnbrook is at {address} until Ctrl-C. To crawl it: nibbet crawl {address} FOLDER --as {HOME}/\n")
            sys.stdout.flush()
            while True:
                time.sleep(3600)
    except OSError as fault:
        raise NibbetError(f"Port {port} cannot be used ({fault.strerror or fault}). Name another: --port N, or --port 0 for any.") from None


@app.command(short_help="Examine the files and write nibbet.toml.")
def init(
    folder: Folder = None,
    home: Annotated[
        str | None, typer.Option(help="Home page of the site, such as https://tarnbrook.example/. Defaults to the one in the files.")
    ] = None,
    force: Annotated[bool, typer.Option("--force", help="Overwrite an existing nibbet.toml.")] = False,
    site: SiteFolder = None,
) -> None:
    """Examine the files in the workspace and write a commented nibbet.toml."""
    from nibbet.cli.init import write_settings

    write_settings(folder or site or Path(), home, force=force)


@app.command(short_help="Read new files; print what was used and set aside.")
def load(
    folder: Folder = None,
    form: Format = Form.table,
    fresh: Annotated[bool, typer.Option("--fresh", help="Clear the cache and read everything again.")] = False,
    as_of: AsOf = None,
    site: SiteFolder = None,
    quiet: Quiet = False,
    verbose: Verbose = False,
) -> None:
    """Read new files of the sources and print the account: what was read, used and set aside, and how the sources match."""
    from nibbet.render.terminal import show_account

    show_account(with_site(folder, site, quiet, verbose, lambda s: s.load(fresh=fresh), as_of=as_of), form.value)


@app.command("run", short_help="Read, decide on every page, and write all files.")
def run_all(
    folder: Folder = None,
    out: Annotated[Path | None, typer.Option("--out", metavar="DIR", help="Folder for the files. Defaults to FOLDER/out.")] = None,
    as_of: AsOf = None,
    site: SiteFolder = None,
    quiet: Quiet = False,
    verbose: Verbose = False,
) -> None:
    """Read the sources, decide on every page, and write all files; runs `init` first where there are no settings yet."""
    _run_all(folder, site, out, quiet, verbose, as_of)


def _run_all(folder: Path | None, site_folder: Path | None, out: Path | None, quiet: bool, verbose: bool, as_of: str | None) -> None:
    from nibbet.render import painter

    root = folder or site_folder or Path()
    if root.is_dir() and not (root / "nibbet.toml").exists():
        from nibbet.cli.init import write_settings

        write_settings(root, None, force=False)
    begun = time.monotonic()

    def task(site: Site) -> Site:
        site.write(out)
        return site

    with painter.started():
        from nibbet.render.terminal import summary  # imports pandas: after the other process has begun to

        written = with_site(folder, site_folder, quiet, verbose, task, as_of=as_of)
    summary(written, str(out or written.root / "out"), time.monotonic() - begun)


@app.command(short_help="The verdict of every page, with its reason.")
def decide(
    folder: Folder = None,
    form: Format = Form.table,
    where: Where = None,
    top: Top = None,
    verdict: Annotated[Verdict | None, typer.Option(help="Only this verdict.")] = None,
    why: Annotated[str | None, typer.Option("--why", metavar="ADDRESS", help="All figures that the rules looked at for one page.")] = None,
    protect: Annotated[
        list[str] | None, typer.Option("--protect", metavar="PATTERN", help='Never remove or merge these pages away, such as "/legal/*".')
    ] = None,
    as_of: AsOf = None,
    site: SiteFolder = None,
    quiet: Quiet = False,
    verbose: Verbose = False,
) -> None:
    """Print the verdict of every page with its reason, by gain."""
    from nibbet.render.terminal import show, show_windows
    from nibbet.render.views import show_reasoning

    def task(s: Site) -> tuple[Windows, pd.DataFrame, pd.DataFrame]:
        if why is not None:
            return s.windows, s.why(why), s.verdict_of(why)
        result = s.verdicts()
        return s.windows, chosen_rows(result if verdict is None else result[result["verdict"] == verdict.value], where, top), result

    windows, rows, verdicts = with_site(folder, site, quiet, verbose, task, as_of=as_of, protect=protect or ())
    if form is Form.table:
        show_windows(windows)
    if why is not None:
        show_reasoning(rows, verdicts, form.value)
        return
    show(
        rows,
        form.value,
        columns=["page", "verdict", "cause", "gain", "confidence", "because"],
        empty="No page has such a verdict. Leave --verdict out.",
    )


@app.command(short_help="Topics that are answered or not, and what to write.")
def topics(
    folder: Folder = None,
    form: Format = Form.table,
    where: Where = None,
    top: Top = None,
    check: Annotated[
        Path | None, typer.Option(metavar="FILE", help="Compare a list of ideas (the first column, or one per line) with the topics.")
    ] = None,
    between: Annotated[tuple[str, str] | None, typer.Option(metavar="A B", help="Whether two queries need one page or two.")] = None,
    brief: Annotated[str | None, typer.Option(metavar="TOPIC", help="Print the brief of a topic, named by one of its queries.")] = None,
    pack: Annotated[
        int | None,
        typer.Option(metavar="SIZE", help="Print the evidence of the site, or of the topic of --brief, in at most SIZE characters."),
    ] = None,
    as_of: AsOf = None,
    site: SiteFolder = None,
    quiet: Quiet = False,
    verbose: Verbose = False,
) -> None:
    """Print the topics of the site by gain: what it answers, its strays, and what to write."""
    from nibbet.render.terminal import show
    from nibbet.render.views import aside_sentence

    text: list[str] = []
    rows: list[pd.DataFrame] = []
    aside: list[str] = []

    def task(s: Site) -> None:
        import pandas as pd

        if pack is not None:
            from nibbet.render.packs import site_pack, topic_pack

            text.append(site_pack(s, pack) if brief is None else topic_pack(s.brief(brief), str(s.windows.recent), pack))
        elif brief is not None:
            from nibbet.render.briefs import brief_text

            text.append(brief_text(s.brief(brief), str(s.windows.recent)))
        elif between is not None:
            rows.append(pd.DataFrame([s.between(*between)]))
        elif check is not None:
            from nibbet.sources.ideas import read_ideas

            rows.append(chosen_rows(s.check_ideas(read_ideas(check)), where, top))
        else:
            rows.append(chosen_rows(s.topics(), where, top))
            if not rows[0]["gain"].dropna().is_monotonic_decreasing:
                aside.append(
                    "Topics of sections that get fewer clicks per search than the rest of the site stand lower (strength in topics.csv)."
                )
            aside.append(aside_sentence(s.topics_aside()))

    with_site(folder, site, quiet, verbose, task, as_of=as_of)
    if text:
        typer.echo(text[0], nl=False)
        return
    if between is not None and form is Form.table:
        from nibbet.render.views import show_between

        show_between({str(name): value for name, value in rows[0].iloc[0].items()})
        return
    listed = ["topic", "queries", "volume", "served", "page", "position", "proposal", "gain"]
    columns = None if check is not None or between is not None else listed
    show(rows[0], form.value, columns=columns, empty="There are no topics: that takes search rows with queries, or searches by month.")
    for line in filter(None, [] if quiet else aside):
        typer.echo(line, err=True)


@app.command(short_help="The report as one HTML file.")
def report(
    folder: Folder = None,
    out: Annotated[
        Path | None, typer.Option("--out", metavar="FILE", help="Path of the report. Defaults to FOLDER/out/report.html.")
    ] = None,
    as_of: AsOf = None,
    site: SiteFolder = None,
    quiet: Quiet = False,
    verbose: Verbose = False,
) -> None:
    """Write only the report: one self-contained HTML file to open, send or print."""
    from nibbet.render.files import write_report

    written = with_site(folder, site, quiet, verbose, lambda s: write_report(s, out or s.root / "out" / "report.html"), as_of=as_of)
    sys.stdout.write(f"{harmless(str(written))}\n")
