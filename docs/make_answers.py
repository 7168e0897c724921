"""Write docs/answers.md: the questions of the trade, each with its command, what that prints on the demo, and how to read it.

Usage: python docs/make_answers.py [WORKSPACE]   (default demo/tarnbrook, made by `make demo`)
"""

from __future__ import annotations

import contextlib
import io
import os
import shlex
import sys
from pathlib import Path

from nibbet.cli.main import main

HERE = Path(__file__).parent
#: lines and columns of an output that the page shows
MOST_LINES, MOST_WIDE = 20, 150
#: chapter, question, command, how to read the answer
ANSWERS = [
    ("What to do", "Which pages should we work on first?", "nibbet decide --top 4", "Ordered by extra clicks a month. `--why PAGE` shows every figure behind a verdict."),
    ("What to do", "Which pages can go?", "nibbet decide --verdict prune --top 4", "Only pages that earned nothing in any source for a year and on which no other page depends. The target receives their redirect."),
    ("What to do", "Which pages should become one?", "nibbet decide --verdict consolidate --top 4", "The target stays. The gain is net of the clicks that only the leaving page has."),
    ("What to do", "Which pages look alike and should stay apart?", 'nibbet sql "SELECT page, other, shared, because FROM apart ORDER BY shared DESC LIMIT 4"', "Each line gives the reason why two pages that share queries are not merged."),
    ("What to do", "Which pages draw a topic that nothing answers?", "nibbet decide --verdict expand --top 3", "The page is shown for the topic without answering it: extend it, or write a new page."),
    ("What to do", "Why this verdict, and what would change it?", "nibbet decide --why /rivers/gillangarth/", "Every rule in its order, and every figure with its threshold."),
    ("What to do", "What is known of this page?", "nibbet page /rivers/gillangarth/", "One screen: measures, change and its cause, queries by role, evidence."),
    ("What changed", "Did the site gain or lose, and why?", "nibbet compare --by site", "Clicks, then the funnel after them. Demand, rank, pull and access add up to the change."),
    ("What changed", "Which sections moved?", "nibbet compare --by section", "Real changes first: beyond noise and season, at a false discovery rate of 5%."),
    ("What changed", "Which pages lost most in the last four weeks?", 'nibbet compare --recent 28 --against year --by page --where "change < 0" --top 4', "Compared with the same days a year earlier, so that a season is not a loss."),
    ("What changed", "Is it the brand or everything else?", "nibbet compare --by brand", "Two rows that add up to all named queries."),
    ("What changed", "Which queries of a page fell together?", 'nibbet sql "SELECT page, subject, queries, reference, recent, why FROM losses LIMIT 4"', "One loss under the words that its queries share, instead of forty lines."),
    ("What changed", "Which pages decline for good, and since when?", 'nibbet sql "SELECT page, kind, since, before, after, depth FROM trends WHERE real AND depth > 0 ORDER BY before - after DESC LIMIT 4"', "Clicks a week before and after the week of the break, without the season; depth is the share lost."),
    ("What changed", "Which queries are new, rise or fade?", "nibbet rising --top 3", "The last 28 days compared with the 28 before; `--days 7` or `90` for other periods."),
    ("What changed", "Which topics rise or fade over a quarter?", "nibbet rising --by topic --days 90 --top 3", "Queries that one page can answer are taken together."),
    ("What changed", "How do our new pages start?", "nibbet new --top 6", "Clicks since each page began, compared with earlier new pages at the same age: low, usual and high are their 10th, 50th and 90th percentile."),
    ("What changed", "When must what be ready?", "nibbet sql \"SELECT key, height, peak, begins, ready_by FROM seasons WHERE level = 'section' AND season = 'own'\"", "height: clicks at the peak / mean of the year; ready_by is eight weeks before the season begins."),
    ("What changed", "What comes into season, and when must it be ready?", "nibbet calendar --top 4", "ready_by is eight weeks before the season begins; height is the peak relative to the mean of the year."),
    ("Queries", "Who is seen in the results, and where are we not?", "nibbet hosts --top 5", "From the newest snapshot of each query; `--topic TOPIC` shows one topic."),
    ("Queries", "How do searches with a word do?", "nibbet query --like hire --top 3", "The group compared with all other queries, its change, its pages, and queries that stand out in it."),
    ("Queries", "How do questions do?", 'nibbet query --like "re:^(how|which|where|what|is) " --top 3', "`re:` takes an expression; several `--like` make one group."),
    ("Queries", "How do our named groups of queries do?", "nibbet query", "The groups of `[groups.queries]` in nibbet.toml, and all other queries in the last row."),
    ("Queries", "Which page should answer this query, and which get in its way?", 'nibbet query "elverpool canoe route"', "The owner first, then rivals, passing pages and strays."),
    ("Queries", "Where do we stand just below the clicks?", "nibbet sql \"SELECT page, query, position, clicks, gain FROM openings WHERE kind = 'climb' ORDER BY gain DESC LIMIT 4\"", "gain: clicks a month at the position of the good pages of the site."),
    ("Queries", "What is shown high and seldom chosen?", "nibbet sql seldom-chosen --top 4", "A saved question: pull below the CTR curve of the site at that position, beyond chance."),
    ("Queries", "Which pages stand on the second page of results?", "nibbet sql page-two --top 4", "A saved question."),
    ("Queries", "How many queries does a page draw, and how many does it answer?", "nibbet sql queries-per-page --top 4", "A saved question."),
    ("Queries", "How much is withheld, and where?", 'nibbet sql "SELECT page, impressions, withheld_share FROM pages WHERE impressions > 500 ORDER BY withheld_share DESC LIMIT 4"', "Impressions whose query the source does not name; they count toward the page."),
    ("Topics", "What should we write next?", "nibbet topics --where \"proposal = 'new page'\" --top 4", "Topics that no page answers, by possible gain."),
    ("Topics", "Which pages should be extended?", "nibbet topics --where \"proposal = 'extend'\" --top 4", "A page is close to the topic; a section in it is less work than a new page."),
    ("Topics", "Which pages should be translated?", "nibbet topics --where \"proposal = 'translate'\" --top 4", "Searched in another language than that of the page that is shown."),
    ("Topics", "Do two queries need one page or two?", 'nibbet topics --between "dry bag" "dry bag price"', "By common results where there are snapshots, else by pages and words."),
    ("Topics", "What must an author know?", 'nibbet topics --brief "hammock camping"', "Queries, questions, the present results, pages to link from, and topics to leave to other pages."),
    ("Topics", "Which topics are we shown least for, for what they are searched?", 'nibbet sql "SELECT label, volume, shown_share, position, served FROM topics WHERE volume_kind = \'searches a month\' ORDER BY volume DESC LIMIT 4"', "shown_share: the share of the searches of the topic for which the site appears."),
    ("Topics", "What do topics earn, beside how much they are searched?", "nibbet sql \"SELECT label, volume, volume_kind, sessions, conversions, conversions_low, conversions_high FROM topics ORDER BY conversions DESC LIMIT 5\"", "Earnings of a page are divided among its queries by clicks; low and high are an 80% interval."),
    ("People", "Do phones do as well as desktops?", "nibbet split --by device", "pull_beside, engagement_beside: relative to the same pages on other devices; 1 = equal."),
    ("People", "In which language are we asked where, and what would a translation be worth?", "nibbet markets", "A row for each country and unanswered language, by worth; the row of a country without a language has all other queries, with its visits and sales."),
    ("People", "Which channels stay, which buy?", "nibbet split --by channel", "Rates of sums; a sentence for each channel that differs on the same pages beyond chance."),
    ("People", "Which pages should be praised, which improved, for how visitors stay and what they do?", "nibbet engagement --top 3", "Compared with the same channel on pages of the same section or kind; events per 100 sessions."),
    ("People", "Which pages disappoint their visitors?", "nibbet sql \"SELECT page, key, measure, value, usual, q_value FROM peers WHERE flag = 'low' AND measure = 'engagement' ORDER BY q_value LIMIT 4\"", "Compared with pages of the same section."),
    ("People", "Which pages do better than their section?", "nibbet sql \"SELECT page, key, measure, value, usual, q_value FROM peers WHERE flag = 'high' ORDER BY q_value LIMIT 4\"", "What they do may be worth copying."),
    ("People", "On which device is a page weak?", 'nibbet sql "SELECT page, dimension, value, pull, usual, flag FROM segments LIMIT 4"', "usual: the same page in its other segments."),
    ("People", "Which pages sell?", 'nibbet sql "SELECT page, conversions_long, sessions_long, verdict FROM pages ORDER BY conversions_long DESC LIMIT 4"', "Over all channels of a year; a page that sells is never removed."),
    ("People", "Where do visits come without clicks from search?", "nibbet sql visits-without-clicks --top 4", "A saved question."),
    ("People", "Where do visits come from, and who sends more than before?", "nibbet compare --by source --top 4", "Sites and services that send visits; `nibbet page` shows those of one page."),
    ("What works", "Which pages do visitors like most, what have they in common, and what to write beside them?", "nibbet popular --top 3", "Popular by visits, time or earnings; ideas are unanswered topics related to a popular page."),
    ("What works", "Do titles keep people from choosing us?", "nibbet titles --top 2", "Each trait compared with other pages at the same position; a gain is given only where the cost is proven on this site."),
    ("What works", "Which sections earn most per search?", "nibbet sql \"SELECT key, pages, clicks_per_page, clicks_per_search, strength FROM strengths WHERE level = 'section' ORDER BY strength DESC LIMIT 4\"", "strength 1 = usual; small groups are shrunk to 1."),
    ("What works", "Do long pages do better?", "nibbet sql \"SELECT key, pages, clicks_per_page, strength, strength_low, strength_high FROM strengths WHERE level = 'length'\"", "With an 80% interval, which contains 1 for most."),
    ("What works", "Did the new titles help?", "nibbet titles --changes --top 2", "CTR after relative to before at the same position, minus the change of pages with unchanged titles. Days between the two inventories do not count, unless the page gives the date of change."),
    ("What works", "How do we do in image search?", "nibbet split --by surface", "Compared with web search, never added to it."),
    ("What works", "Which forms of titles do better?", "nibbet sql \"SELECT key, pages, strength, strength_low, strength_high FROM strengths WHERE level = 'title' ORDER BY strength DESC LIMIT 4\"", "Relative to the usual of the site."),
    ("Faults", "What is broken between pages and their traffic?", 'nibbet sql "SELECT repair, count(*) AS pages, sum(weight) AS visits FROM repairs GROUP BY repair ORDER BY visits DESC"', "By visits at stake in a year."),
    ("Faults", "Which pages does nothing link to?", "nibbet sql \"SELECT page, weight, because FROM repairs WHERE repair = 'orphan' LIMIT 4\"", "They are alive, but no page of the site links to them."),
    ("Faults", "Which pages that matter does search not show, and why?", "nibbet absent --top 2", "The first cause that holds is given; [Crawl](crawl.md) lists them all. In the demo the editorial list has every page, so each absent page counts."),
    ("Faults", "Which failing addresses still have links or visits?", "nibbet sql \"SELECT page, repair, weight, target FROM repairs WHERE repair IN ('error', 'restore', 'redirected', 'chain') LIMIT 4\"", "The target is the page to redirect to."),
    ("Faults", "Where should addresses that go lead?", 'nibbet sql "SELECT * FROM redirects LIMIT 4"', "`redirects-nginx.conf` and `redirects-apache.conf` contain them for a server."),
    ("Data", "Does everything add up?", "nibbet load", "Rows read = used + set aside with a reason; what more would tell is below."),
    ("Data", "Which spellings stand for a page?", "nibbet sql \"SELECT spelling, reason FROM addresses WHERE page LIKE '%/rivers/gillangarth/' LIMIT 4\"", "Every spelling in every source, and why it belongs to that page."),
]  # fmt: skip


def answer(command: str, workspace: str) -> str:
    """What a command prints on a workspace."""
    name, *rest = shlex.split(command)[1:]
    place = (
        [workspace] if name in ("decide", "compare", "rising", "new", "topics", "load", "titles", "hosts", "links", "absent", "engagement", "calendar", "popular", "markets") and "--why" not in rest else ["--site", workspace]
    )
    out = io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(io.StringIO()):
        if main([name, *place, *rest, "-q"]):
            raise SystemExit(f"failed: {command}")
    return out.getvalue().rstrip()


def shown(text: str) -> str:
    """As much of an output as the page shows."""
    lines = [line.rstrip() for line in text.splitlines()]
    lines = [line if len(line) <= MOST_WIDE else line[: MOST_WIDE - 1].rstrip() + "…" for line in lines]
    more = f"\n… {len(lines) - MOST_LINES} more lines" if len(lines) > MOST_LINES else ""
    return "\n".join(lines[:MOST_LINES]) + more


def page(workspace: str) -> str:
    """docs/answers.md."""
    lines = [
        "# Answers",
        "",
        f"{len(ANSWERS)} questions that come up every week, each with the command that answers it and what that prints on the demo (`nibbet demo tarnbrook`; run it",
        "in that folder). Every list is a table of [SQL](questions.md), a CSV file of a run and a call in [Python](python.md) as well.",
    ]
    chapter = ""
    for part, question, command, reading in ANSWERS:
        if part != chapter:
            chapter = part
            lines += ["", f"## {part}"]
        lines += ["", f"### {question}", "", "```sh", command, "```", "", "```text", shown(answer(command, workspace)), "```", "", reading]
    return "\n".join(lines) + "\n"


if __name__ == "__main__":
    os.environ["COLUMNS"] = "150"
    (HERE / "answers.md").write_text(page(sys.argv[1] if len(sys.argv) > 1 else str(HERE.parent / "demo" / "tarnbrook")), "utf-8")
