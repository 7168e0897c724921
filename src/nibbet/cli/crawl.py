"""nibbet crawl: makes the inventory of a site, politely."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from nibbet.cli.app import app
from nibbet.cli.options import Quiet, Verbose
from nibbet.errors import ConfigError, SourceError

if TYPE_CHECKING:
    from collections.abc import Iterator

    from nibbet.crawl.crawler import Plan, Tally
    from nibbet.crawl.frontier import Frontier

#: default pages a second; a site on the same machine is requested as fast as it answers
USUAL_RATE = 5.0
#: answers between two progress messages
SAID_EVERY = 50


@app.command(short_help="Make the inventory of a site, politely.")
def crawl(
    url: Annotated[str, typer.Argument(metavar="URL", help="The home page, such as https://tarnbrook.example/.", show_default=False)],
    folder: Annotated[Path | None, typer.Argument(metavar="[FOLDER]", help="The workspace. Defaults to the current folder.")] = None,
    limit: Annotated[
        int | None, typer.Option(metavar="N", min=1, help="Request at most this many addresses; another run continues.")
    ] = None,
    depth: Annotated[int | None, typer.Option(metavar="N", min=0, help="Follow links at most this far from the home page.")] = None,
    include: Annotated[list[str] | None, typer.Option(metavar="PATTERN", help='Only these paths, such as "/guides/*". Repeatable.')] = None,
    exclude: Annotated[list[str] | None, typer.Option(metavar="PATTERN", help='Not these paths, such as "*/print". Repeatable.')] = None,
    rate: Annotated[
        float | None, typer.Option(metavar="N", min=0.01, help="Pages a second.  [default: 5; as fast as it answers on this machine]")
    ] = None,
    stands_for: Annotated[
        str, typer.Option("--as", metavar="HOME", help="The live site, if URL is a copy of it: the inventory contains its addresses.")
    ] = "",
    contact: Annotated[str, typer.Option(metavar="ADDRESS", help="An address or page where the owner of the server can reach you.")] = "",
    fresh: Annotated[bool, typer.Option("--fresh", help="Request every page again, not only changed ones.")] = False,
    archive: Annotated[
        bool, typer.Option("--archive", help="Request every page, and keep the answers in crawl/pages.warc.gz (ISO 28500).")
    ] = False,
    outside: Annotated[
        bool, typer.Option("--outside", help="Also check whether links to other sites still work, at most one request a second to each.")
    ] = False,
    quiet: Quiet = False,
    verbose: Verbose = False,
) -> None:
    """Visit a site from its home page, its sitemaps, and all addresses that the workspace knows, and write its inventory into FOLDER/crawl.

    It obeys robots.txt, waits between pages, and slows down when the server does. It can be stopped at any time and continues where it was.
    A later run requests only what has changed.
    """
    _home(url)  # an invalid address is refused before anything slow is loaded
    import asyncio
    import sqlite3

    from nibbet.cli.progress import Progress
    from nibbet.crawl.crawler import Crawler, Plan
    from nibbet.crawl.frontier import Frontier
    from nibbet.crawl.inventory import Inventory
    from nibbet.passing import Passing

    place, progress = folder or Path(), Progress(quiet=quiet, verbose=verbose)
    home, hosts, further = _hosts(url, stands_for, place)
    if rate is None:
        rate = None if _on_this_machine(home) else USUAL_RATE
    passing = Passing() if (place / "nibbet.toml").exists() else None
    names = passing.path / "addresses" if passing else None
    if names:
        _read_known(_root(stands_for or home), place, names, quiet=quiet, verbose=verbose)
    plan = Plan(
        home,
        hosts,
        limit,
        depth,
        tuple(include or ()),
        tuple(exclude or ()),
        rate,
        contact=contact,
        fresh=fresh or archive,
        stands_for=_root(stands_for),
        known=_lines(names) if names else (),
        outside=outside,
        further=further,
    )
    into = place / "crawl"
    frontier = Frontier(into / ".frontier.db")

    def say(tally: Tally, addresses: int) -> None:
        if tally.requests % SAID_EVERY == 1:
            progress(f"crawling: {tally.requests + tally.unchanged:,} of {addresses:,} known addresses")

    def say_outside(done: int, total: int) -> None:
        if done % SAID_EVERY == 1:
            progress(f"checking links to other sites: {done:,} of {total:,} addresses")

    keeper: Any = None
    try:
        if archive:
            from nibbet.crawl.archive import Archive

            keeper = Archive(into / "pages.warc.gz")
        crawler = Crawler(plan, frontier, say, keeper, say_outside)
        progress(f"crawling {home}")
        tally = asyncio.run(crawler.run())
        if keeper is not None:
            keeper.done()
        _refuse_nothing(frontier, home)
        progress("writing the inventory")
        written = Inventory(frontier, crawler).write(into)
        seconds = progress.done()
        _summary(frontier, plan, tally, written, place, seconds)
    except sqlite3.Error as fault:
        raise SourceError(
            f"{into}: what the crawl knows cannot be kept ({fault}). Free space, or remove {into / '.frontier.db'}."
        ) from None
    finally:
        progress.done()
        frontier.close()
        if passing:
            passing.close()


def _refuse_nothing(frontier: Frontier, home: str) -> None:
    """Raises SourceError where no page answered, so that the last inventory stays; names the new home of a site that moved."""
    if any(status is not None and 200 <= status < 300 for _, _, _, status, *_ in frontier.rows()):
        return
    from nibbet.crawl.crawler import unpacked

    moved = next((unpacked(record).get("redirect_to", "") for address, *_, record, _ in frontier.rows() if address == home and record), "")
    if moved:
        raise SourceError(f"{home}: leads to {moved}, another site. If that is the one, crawl it: nibbet crawl {moved}")
    why = ", ".join(f"{reason} ({count:,})" for reason, count in frontier.reasons()[:3]) or "no page was found"
    raise SourceError(f"{home}: nothing could be read: {why}. Look at the address in a browser, or name another home page.")


def _root(home: str) -> str:
    """Scheme and host of an address; empty for none."""
    return "/".join(_home(home).split("/", 3)[:3]) if home else ""


def _home(url: str) -> str:
    """A home page in normalised form. Raises ConfigError for anything else."""
    import ada_url

    from nibbet.core.markup import host_of

    try:
        home: str = ada_url.normalize_url(url if "://" in url else f"https://{url}")
    except ValueError:
        home = ""
    if not home.startswith(("http://", "https://")) or not host_of(home):
        raise ConfigError(f"{url}: is no address of a site. Name its home page, as https://tarnbrook.example/.")
    return home.partition("#")[0]


def _hosts(url: str, stands_for: str, place: Path) -> tuple[str, frozenset[str], tuple[str, ...]]:
    """(home, hosts of the site, home pages of those with pages of their own)."""
    from nibbet.core.markup import host_of

    home = _home(url)
    hosts = {host_of(home)}
    further: tuple[str, ...] = ()
    if (place / "nibbet.toml").exists() and not stands_for:
        from nibbet.config import load_config

        site = load_config(place / "nibbet.toml").site
        if host_of(site.home) == host_of(home):
            further = tuple(f"{home.partition('://')[0]}://{host}/" for host in site.more_hosts)
            hosts |= {host_of(f"//{host}") for host in (*site.hosts, *site.more_hosts)}
    return home, frozenset(hosts), further


def _read_known(live: str, place: Path, into: Path, *, quiet: bool, verbose: bool) -> None:
    """Write the addresses that the workspace knows into a file, in another process, whose memory is free again before the crawl begins.

    Raises SourceError where that process was killed.
    """
    import signal
    from concurrent.futures import BrokenExecutor, ProcessPoolExecutor
    from multiprocessing import get_context

    try:
        with ProcessPoolExecutor(1, get_context("spawn"), signal.signal, (signal.SIGINT, signal.SIG_DFL)) as other:
            other.submit(_write_known, live, place, into, quiet=quiet, verbose=verbose).result()
    except BrokenExecutor:
        raise SourceError(
            f"{place}: reading its sources was ended from outside, perhaps for want of memory. Run: nibbet load {place}"
        ) from None


def _lines(path: Path) -> Iterator[str]:
    with path.open(encoding="utf-8", errors="surrogatepass") as lines:
        yield from (line.rstrip("\n") for line in lines)


def _write_known(live: str, place: Path, path: Path, *, quiet: bool, verbose: bool) -> None:
    """The same in this process: addresses of the home page on the scheme and host of `live`, one a line; none where nothing can be read
    yet.
    """
    from nibbet.cli.progress import Progress
    from nibbet.config import load_config
    from nibbet.site import open_site

    progress = Progress(quiet=quiet, verbose=verbose)
    root = _root(load_config(place / "nibbet.toml").site.home.replace("//www.", "//"))
    with path.open("w", encoding="utf-8", errors="surrogatepass") as file:
        try:
            with open_site(place, say=progress) as site:
                pages = site.addresses["page"].dropna().drop_duplicates()
                file.writelines(
                    f"{live + page.removeprefix(root) if page.startswith(root + '/') else page}\n" for page in pages if "\n" not in page
                )
        except SourceError:  # sources that cannot be read yet have no addresses
            pass
        finally:
            progress.done()


def _on_this_machine(home: str) -> bool:
    import ipaddress
    import socket
    from urllib.parse import urlsplit

    try:
        known = socket.getaddrinfo(urlsplit(home).hostname or "", None)
    except OSError:
        return False
    return bool(known) and all(ipaddress.ip_address(one[4][0]).is_loopback for one in known)


def _say_outside(out: Any, frontier: Frontier, tally: Tally) -> None:
    """Prints the results for links to other sites."""
    if tally.cut_off:
        out.print("  None of the other sites could be reached from here: their links are not judged. Try again with --outside.")
        return
    from nibbet.core.markup import REFUSED, SILENT_FOR

    answers = [(status, reason in SILENT_FOR) for status, _, reason in frontier.outside().values()]
    fail = sum(silent or (400 <= (status or 0) < 600 and status not in REFUSED) for status, silent in answers)
    moved = sum(300 <= (status or 0) < 400 for status, _ in answers)
    closed = sum(not silent and (status is None or status in REFUSED) for status, silent in answers)
    left = f"; {tally.outside_left:,} are left for another run" if tally.outside_left else ""
    out.print(f"  Other sites: {tally.outside:,} addresses linked, {fail:,} fail, {moved:,} have moved, {closed:,} keep robots out{left}.")


def _summary(frontier: Frontier, plan: Plan, tally: Tally, written: list[Path], place: Path, seconds: float) -> None:
    """Prints what was crawled, what was left out and why, and what to do next."""
    from collections import Counter

    from rich.text import Text

    from nibbet.crawl.frontier import DONE, TODO
    from nibbet.render.safe import for_terminal
    from nibbet.render.terminal import console

    out = console()
    status = Counter(row[3] for row in frontier.rows() if row[2] == DONE)
    out.print(Text(for_terminal(f"{plan.home}  {sum(status.values()):,} addresses in {seconds:,.0f} s ({tally.requests:,} requests, {tally.unchanged:,} unchanged)"), style="bold"))  # fmt: skip
    kinds = {2: "answered", 3: "redirect", 4: "fail (4xx)", 5: "fail (5xx)", 0: "without response"}
    by_kind = Counter((code or 0) // 100 for code in status.elements())
    out.print(
        "  "
        + ", ".join(
            f"{count:,} {kinds.get(kind, 'with another status')}"
            for kind, count in sorted(by_kind.items(), key=lambda one: (one[0] == 0, one[0]))
        )
    )
    for reason, count in frontier.reasons():
        out.print(Text(for_terminal(f"  {count:,}: {reason}"), style="dim"))
    if plan.outside:
        _say_outside(out, frontier, tally)
    left = frontier.counts()[TODO]
    if left:
        out.print(f"  {left:,} addresses remain: run the same command again to continue.")
    for path in written:
        out.print(Text(for_terminal(f"Written: {path}")))
    if not (place / "nibbet.toml").exists():
        out.print(Text(for_terminal(f"Add search and landing-page exports to the folder, then: nibbet init {place}")))
    elif '"crawl/pages' not in (place / "nibbet.toml").read_text("utf-8"):
        out.print("To use it, add to nibbet.toml, in place of another inventory:")
        lines = {"pages.parquet": "crawl", "links.parquet": "links", "sitemap.xml": "sitemap", "robots.txt": "robots"}
        for path in sorted(written, key=lambda path: list(lines).index(path.name)):
            name = path.name.replace("pages.", "pages*.")  # earlier inventories are beside it
            out.print(Text(f'[[source]]\nkind = "{lines[path.name]}"\nfiles = "crawl/{name}"', style="dim"))
