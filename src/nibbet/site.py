"""A site with its sources: asks for what is needed, computes it once, and hands out tables."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from nibbet.config import KINDS, Config, load_config, make_config
from nibbet.core import groups as merging
from nibbet.core import reduce as reductions
from nibbet.core.address import fold
from nibbet.core.curve import Curve, learn_curve, with_expected
from nibbet.core.ledger import ledger, with_others, with_pull, with_split
from nibbet.core.openings import Reach, find_openings, stray_topics
from nibbet.core.pull import shrunk_pull, weighted_position
from nibbet.core.querymap import Roles, add_answer, add_roles, query_totals
from nibbet.core.redirects import covering_page, straighten
from nibbet.core.rules import Facts, Thresholds
from nibbet.core.tables import PAGES, QUERIES, named_pages, named_queries
from nibbet.core.verdicts import decide
from nibbet.core.windows import MONTH_DAYS, Windows, make_windows, weekday_scale
from nibbet.engine import Engine
from nibbet.errors import NotFoundError
from nibbet.sources.joined import Joined, join_sources
from nibbet.sources.load import read_sources

Say = Callable[[str], None]
PAIR_SUMS = ["clicks", "impressions", "position_sum", "placed", "expected_clicks"]


def open_site(folder: str | Path = ".", *, as_of: date | None = None, say: Say = lambda _: None) -> Site:
    """The site whose nibbet.toml lies in `folder`. Raises ConfigError when there is none or it is not usable."""
    root = Path(folder)
    config = load_config(root / "nibbet.toml")
    if as_of is not None:
        config = config.model_copy(update={"site": config.site.model_copy(update={"as_of": as_of})})
    return Site(config=config, root=root, say=say)


class Site:
    """One site: its sources joined by page, its measures, query map and verdicts, each computed when first asked for.

    From frames: Site(home="https://tarnbrook.example/", search=frame, landings=frame, ...) takes pandas, Polars, Arrow and Ibis tables and
    paths of files; `settings` holds further tables of nibbet.toml, such as {"protect": {"pages": ["/legal/*"]}}.
    """

    def __init__(
        self,
        home: str | None = None,
        *,
        config: Config | None = None,
        root: str | Path = ".",
        say: Say = lambda _: None,
        settings: dict[str, Any] | None = None,
        **sources: Any,
    ) -> None:
        if config is None:
            given = dict(settings or {})
            config = make_config({**given, "site": {**given.get("site", {}), **({"home": home} if home else {})}})
        self.config, self.root, self._say = config, Path(root), say
        self._frames = {kind: frame for kind, frame in sources.items() if frame is not None}
        if unknown := set(self._frames) - set(KINDS):
            raise NotFoundError(f"Site does not know the source {', '.join(sorted(unknown))}. It knows: {', '.join(KINDS)}.")

    # -- what was read -------------------------------------------------------------------------------------------------------------------

    @cached_property
    def _engine(self) -> Engine:
        return Engine(memory=self.config.engine.memory, threads=self.config.engine.threads)

    @cached_property
    def _joined(self) -> Joined:
        cleans = read_sources(self._engine, self.config, self.root, self._frames, self._say)
        return join_sources(self._engine, self.config, cleans, self._say)

    @cached_property
    def account(self) -> dict[str, Any]:
        """How the join balances: per source rows and measures read = used + set aside; the share matched; notes with a code."""
        from nibbet.core.notes import notes, unmatched

        joined, account = self._joined, self._joined.account
        visits = pd.DataFrame({"date": pd.to_datetime([]), "sessions": [], "organic": []})
        if joined.landings is not None:
            found = self._engine.fetch(reductions.visit_days(joined.landings))
            visits = found.assign(date=pd.to_datetime(found["date"]))
        said = notes(account, joined.as_of, self._days, self._pages, joined.addresses, visits, self.windows.recent)
        return {**account, "unmatched": unmatched(self._pages), "notes": said}

    @property
    def addresses(self) -> pd.DataFrame:
        """Every spelling met: spelling, page, reason, sources."""
        return self._joined.addresses

    @cached_property
    def windows(self) -> Windows:
        """The recent, reference and long window."""
        own = self.config.windows
        return make_windows(self._joined.first, self._joined.as_of, recent=own.recent, long=own.long, reference=own.reference)

    @cached_property
    def days(self) -> pd.DataFrame:
        """One row per complete day of the site: date, clicks, impressions."""
        return self._days

    @cached_property
    def _days(self) -> pd.DataFrame:
        days = self._engine.fetch(reductions.site_days(self._joined.search))
        return days.assign(date=pd.to_datetime(days["date"]))

    @cached_property
    def _scale(self) -> float:
        return weekday_scale(self._days, self.windows.recent, self.windows.reference)

    # -- measures ------------------------------------------------------------------------------------------------------------------------

    @cached_property
    def _cells(self) -> pd.DataFrame:
        paired = any(one.grain == "pair" for _, one in self._joined.files if one.kind == "search")
        cells = self._engine.fetch(reductions.cells(self._joined.search, self.windows, self.config.site.brand, paired=paired))
        return cells.rename(columns={"page_id": "page"}).sort_values(
            ["page", "query", "device", "surface", "bin", "period"], ignore_index=True
        )

    @cached_property
    def curve(self) -> Curve:
        """The site's own CTR curve, learnt from the long window."""
        self._say("learning the CTR curve")
        rows = self._cells[
            self._cells["period"].isin(["recent", "long"] if self.windows.reference_kind == "year" else ["recent", "long", "reference"])
        ]
        return learn_curve(rows.groupby(["device", "surface", "brand", "bin", "page"], as_index=False)[["clicks", "impressions"]].sum())

    @cached_property
    def _expected(self) -> pd.DataFrame:
        """One row per (page, query) of the recent or reference window: sums of both, expected clicks, positions."""
        cells = with_expected(self._cells[self._cells["period"].isin(["recent", "reference"])], self.curve)
        sums = cells.groupby(["page", "query", "brand", "period"], as_index=False)[PAIR_SUMS].sum()
        wide = sums.set_index(["page", "query", "brand", "period"]).unstack("period", fill_value=0)
        wide.columns = [f"{name}_{period}" for name, period in wide.columns]
        for name in PAIR_SUMS:
            for period in ("recent", "reference"):
                if f"{name}_{period}" not in wide:
                    wide[f"{name}_{period}"] = 0
        pairs = wide.reset_index()
        for period in ("recent", "reference"):
            pairs[f"position_{period}"] = weighted_position(pairs[f"position_sum_{period}"], pairs[f"placed_{period}"])
        return pairs.rename(columns={f"{name}_recent": name for name in [*PAIR_SUMS, "position"]})

    @cached_property
    def _pairs(self) -> pd.DataFrame:
        """The query map: one row per (page, query) of the recent or reference window."""
        self._say("mapping queries to pages")
        pairs = self._expected[self._expected["query"] != ""]
        seen = self._engine.fetch(reductions.pair_days(self._joined.search, self.windows)).rename(columns={"page_id": "page"})
        pairs = pairs.merge(seen, on=["page", "query"], how="left").fillna({"days": 0}).astype({"days": "int64"})
        own = self.config
        pairs = add_answer(pairs, self._pages.reset_index(drop=True), brand=own.site.brand, language=own.site.language)
        roles = Roles(own.verdicts.answers, own.verdicts.rival_share)
        pairs = add_roles(pairs, self._pages["page"], roles, self._targets())
        pairs["brand"] = pairs["brand"].eq(True)
        pairs["pull"] = shrunk_pull(pairs["clicks"].to_numpy(float), pairs["expected_clicks"].to_numpy(float))
        strays = pairs[pairs["role"] == "stray"]
        pairs["topic"] = stray_topics(strays, own.site.language).reindex(pairs.index)
        return pairs.sort_values(["page", "impressions", "query"], ascending=[True, False, True], ignore_index=True)

    def _targets(self) -> pd.DataFrame | None:
        rows = self._joined.editorial
        if rows is None:
            return None
        named = rows.dropna(subset=["page_id", "target_query"])
        query = named["target_query"].str.lower().str.split().str.join(" ")
        return pd.DataFrame({"page": named["page_id"].astype("int64"), "query": query}).sort_values(["query", "page"])

    @cached_property
    def _pages(self) -> pd.DataFrame:
        """The ledger without what needs the query map."""
        self._say("measuring pages")
        own, joined, engine = self.config, self._joined, self._engine
        search = engine.fetch(reductions.page_sums(joined.search, self.windows)).set_index("page_id")
        visits = (
            None
            if joined.landings is None
            else engine.fetch(reductions.visit_sums(joined.landings, self.windows)).set_index("page_id").astype(float, errors="ignore")
        )
        table = ledger(
            joined.pages,
            search,
            visits,
            joined.inventory,
            joined.editorial,
            joined.backlinks,
            windows=self.windows,
            scale=self._scale,
            beyond=own.verdicts.real_change,
            protected=own.protect.pages,
        )
        table = with_others(
            table,
            home=joined.home.root,
            sitemap=joined.sitemap,
            robots=None if joined.tables["robots"] is None else engine.fetch(joined.tables["robots"]),
            hits=None
            if joined.tables["hits"] is None
            else engine.fetch(reductions.hit_sums(joined.tables["hits"], self.windows)).set_index("page_id")["hits"],
            links=None
            if joined.tables["links"] is None
            else engine.fetch(reductions.link_sums(joined.tables["links"])).set_index("target_id")["links"],
        )
        return table

    @cached_property
    def _measured(self) -> pd.DataFrame:
        return with_split(with_pull(self._pages.copy(), self._pairs), self._expected, scale=self._scale)

    @cached_property
    def _openings(self) -> pd.DataFrame:
        t, pairs = self.config.verdicts, self._pairs
        good = pairs[(pairs["role"] == "owner") & ~pairs["brand"] & (pairs["clicks"] >= 5)]
        usual = float(np.average(good["position"], weights=np.sqrt(good["impressions"]))) if len(good) else 5.0
        reach = Reach(t.climb_position[0], t.climb_position[1], t.climb_to, t.snippet_pull, t.answers)
        return find_openings(pairs, self.curve, self.windows.recent.days, reach, usual_place=usual)

    # -- verdicts ------------------------------------------------------------------------------------------------------------------------

    @cached_property
    def _groups(self) -> pd.DataFrame:
        t = self.config.verdicts
        like = merging.Likeness(t.overlap, t.shared_queries, t.turn_taking, t.answers)
        pages = self._measured
        live = self._pairs["page"].map(~pages["gone"] & ~pages["blocked"]).astype(bool)
        candidates = merging.candidate_pairs(self._pairs[live], like)
        wanted = self._engine.frame(pd.DataFrame({"page_id": np.unique(candidates[["page_a", "page_b"]].to_numpy()).astype("int64")}))
        days = self._engine.fetch(reductions.daily_leaders(self._joined.search, self.windows, wanted)).rename(columns={"page_id": "page"})
        candidates["turn_taking"] = merging.turn_taking(days, candidates)
        facts = pages.reset_index(names="number")[["number", "clicks_long", "conversions_long", "backlinks", "protected", "page"]]
        facts = facts.rename(columns={"page": "address", "number": "page"}).fillna({"conversions_long": 0, "backlinks": 0})
        return merging.merge_groups(candidates, facts, like)

    @cached_property
    def _group_gains(self) -> pd.DataFrame:
        if self._groups.empty:
            return pd.DataFrame(columns=["group", "gain", "gain_low", "gain_high"])
        return merging.merge_gain(self._groups, self._pairs, self.curve, self.windows.recent.days)

    @cached_property
    def _stray_topics(self) -> pd.DataFrame:
        rows = self._openings[self._openings["kind"] == "stray"].merge(
            self._pairs[["page", "query", "impressions", "topic", "position_sum", "placed"]], on=["page", "query"]
        )
        table = rows.groupby(["page", "topic"], as_index=False).agg(
            queries=("query", "size"),
            impressions=("impressions", "sum"),
            clicks=("clicks", "sum"),
            position_sum=("position_sum", "sum"),
            placed=("placed", "sum"),
            gain=("gain", "sum"),
            gain_low=("gain_low", "sum"),
            gain_high=("gain_high", "sum"),
        )
        return table.assign(position=weighted_position(table["position_sum"], table["placed"]))

    @cached_property
    def _covers(self) -> pd.Series:
        pages = self._measured
        poor = (pages["clicks_long"] < self.config.verdicts.prune_clicks) & ~pages["gone"]
        staying = np.flatnonzero((~poor & ~pages["gone"] & ~pages["blocked"] & (pages["children"] == 0)).to_numpy())
        return covering_page(
            pages,
            np.flatnonzero((poor | pages["gone"]).to_numpy()),
            staying,
            language=self.config.site.language,
            brand=self.config.site.brand,
        )

    @cached_property
    def _decided(self) -> tuple[pd.DataFrame, pd.DataFrame]:
        self._say("deciding")
        own = self.config.verdicts
        shown = self._openings.merge(self._pairs[["page", "query", "impressions"]], on=["page", "query"]).rename(
            columns={"impressions": "shown"}
        )
        limits = Thresholds(
            settled=self.config.windows.settled, **{k: v for k, v in own.model_dump().items() if k in Thresholds.__dataclass_fields__}
        )
        verdicts, evidence = decide(
            Facts(self._measured, shown, self._groups, self._group_gains, self._stray_topics, self._covers, self.windows, limits)
        )
        return verdicts.assign(worth=self._worth(verdicts["gain"])), evidence

    def _worth(self, gain: pd.Series) -> pd.Series:
        """Money a month: extra clicks x conversions per organic session of the section (shrunk to the site) x value; null without a value."""
        pages, value = self._measured, self.config.value.conversion
        if value is None and not pages["revenue_long"].fillna(0).sum():
            return pd.Series(np.nan, index=gain.index)
        of_section = pages.groupby("section")[["conversions_long", "revenue_long", "sessions_long"]].transform("sum").fillna(0.0)
        whole = pages[["conversions_long", "revenue_long", "sessions_long"]].fillna(0.0).sum()
        earned = "conversions_long" if value is not None else "revenue_long"
        per_session = (of_section[earned] + 200 * whole[earned] / max(whole["sessions_long"], 1.0)) / (of_section["sessions_long"] + 200)
        return gain * per_session * (value if value is not None else 1.0)

    # -- tables for people ---------------------------------------------------------------------------------------------------------------

    @cached_property
    def _page_table(self) -> pd.DataFrame:
        return named_pages(self._measured, self._decided[0])

    def pages(self) -> pd.DataFrame:
        """The ledger: one row per page with the columns of pages.csv, by address."""
        return self._page_table.copy()

    def queries(self) -> pd.DataFrame:
        """The query map: one row per page and query with the columns of queries.csv; withheld rows have an empty query."""
        return named_queries(self._pairs, self._measured)

    def query_totals(self) -> pd.DataFrame:
        """One row per query of the recent window: pages, clicks, impressions, position, brand."""
        return query_totals(self._pairs[self._pairs["impressions"] > 0])

    def verdicts(self) -> pd.DataFrame:
        """One row per page that has a verdict: page, verdict, cause, target, gains, worth, confidence, because, also; largest gain first."""
        names = ["page", "verdict", "cause", "target", "clicks", "gain", "gain_low", "gain_high", "worth", "confidence", "because", "also"]
        rows = self._page_table[self._page_table["verdict"].notna()][names]
        return rows.sort_values(["gain", "page"], ascending=[False, True], na_position="last", ignore_index=True)

    def openings(self) -> pd.DataFrame:
        """Clicks within reach: page, query, kind (climb, snippet, stray), position, clicks, expected_clicks, gain, gain_low, gain_high."""
        return self._openings.assign(page=self._openings["page"].map(self._pages["page"]))

    def groups(self) -> pd.DataFrame:
        """Merge groups: group, page, survivor, shared_impressions, overlap, turn_taking, and the net gain of the group."""
        rows = self._groups.merge(self._group_gains, on="group", how="left")
        return rows.assign(page=rows["page"].map(self._pages["page"]))

    def evidence(self) -> pd.DataFrame:
        """The figures behind each verdict: page, verdict, measure, value, threshold, window, source."""
        rows = self._decided[1]
        return rows.assign(page=rows["page"].map(self._pages["page"])).sort_values(["page", "measure"], kind="stable", ignore_index=True)

    def redirects(self) -> pd.DataFrame:
        """Where addresses that go should lead: from, to, status (301 or 410), because; no chains, no loops."""
        pages, verdicts = self._measured, self._decided[0]
        leaving = verdicts["verdict"].isin(["prune", "consolidate"])
        rows = pd.DataFrame(
            {"from": pages["page"], "to": verdicts["target"].map(pages["page"]), "because": "verdict " + verdicts["verdict"].fillna("")}
        )[leaving]
        moved = pages["gone"] & pages["redirects_to"].notna()
        now = pd.DataFrame({"from": pages["page"], "to": pages["redirects_to"], "because": "redirects already"})[moved]
        broken = (
            pages["gone"]
            & ~moved
            & (pages["status"].fillna(200) >= 400)
            & ((pages["clicks_long"] > 0) | (pages["backlinks"].fillna(0) > 0))
        )
        mend = pd.DataFrame(
            {
                "from": pages["page"],
                "to": self._covers.reindex(pages.index).map(pages["page"]),
                "because": "answers " + pages["status"].astype("str") + " but is still visited",
            }
        )[broken]
        return straighten(pd.concat([rows, now, mend], ignore_index=True))

    # -- one page, one query ---------------------------------------------------------------------------------------------------------------

    def page(self, address: str) -> dict[str, Any]:
        """Everything about one page: its row (`page`), its `queries`, its `evidence`. Raises NotFoundError for a page never met."""
        home = self._joined.home
        found = self.addresses[self.addresses["spelling"] == address]["page"].dropna()
        wanted = found.iloc[0] if len(found) else fold(pd.DataFrame({"spelling": [address], "source": ["search"]}), home)["page"].iloc[0]
        rows = self._page_table[self._page_table["page"] == wanted]
        if rows.empty and isinstance(wanted, str):
            other = wanted.rstrip("/") if wanted.endswith("/") else wanted + "/"
            rows = self._page_table[self._page_table["page"] == other]
        if rows.empty:
            raise NotFoundError(f"No source knows the page {address}.{_close(address, self._pages['path'])}")
        number = rows.index[0]
        queries = self._pairs[self._pairs["page"] == number].drop(columns="page")
        evidence = self._decided[1]
        return {
            "page": rows.iloc[0].to_dict(),
            "queries": queries[[c for c in QUERIES if c in queries]].reset_index(drop=True),
            "evidence": evidence[evidence["page"] == number].drop(columns="page").reset_index(drop=True),
        }

    def query(self, text: str) -> pd.DataFrame:
        """All pages of one query, the owner first. Raises NotFoundError for a query never met."""
        wanted = " ".join(text.lower().split())
        rows = self._pairs[self._pairs["query"] == wanted]
        if rows.empty:
            raise NotFoundError(
                f'No search row has the query "{text}" in the recent or reference window.{_close(wanted, self._pairs["query"])}'
            )
        order = rows["role"].map({"owner": 0, "rival": 1, "passing": 2, "stray": 3})
        rows = rows.assign(order=order).sort_values(["order", "impressions"], ascending=[True, False])
        return rows.assign(page=rows["page"].map(self._pages["page"]))[[c for c in QUERIES if c in rows]].reset_index(drop=True)

    # -- out -----------------------------------------------------------------------------------------------------------------------------

    def write(self, folder: str | Path | None = None) -> list[Path]:
        """Write every file of the analysis into `folder` (default: out/ of the workspace), each whole or not at all; returns their paths."""
        from nibbet.render.files import write_all

        return write_all(self, Path(folder) if folder is not None else self.root / "out")

    def close(self) -> None:
        """Give the engine's memory and spill folder back; what was computed stays."""
        if "_engine" in self.__dict__:
            self._engine.close()


def _close(text: str, among: pd.Series) -> str:
    import difflib

    close = difflib.get_close_matches(text, among.unique().tolist()[:50_000], 3, 0.6)
    return f" Did you mean {' or '.join(close)}?" if close else ""


__all__ = ["MONTH_DAYS", "PAGES", "Site", "open_site"]
