"""What verdicts and briefs rest on, from small tables kept for them, so that asking needs no second computation."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import asdict
from functools import cached_property, partial
from typing import TYPE_CHECKING

from nibbet.errors import NotFoundError
from nibbet.kept import KeptTables

if TYPE_CHECKING:
    import pandas as pd

    from nibbet.core.briefs import Brief, Neighbours
    from nibbet.core.findings import Facts
    from nibbet.pipeline import Pipeline


def _fact(pipeline: Pipeline, name: str) -> pd.DataFrame:
    """A frame of the input of the rules."""
    result: pd.DataFrame = getattr(pipeline.decisions.facts, name)
    return result


class Grounds(KeptTables):
    """The figures behind the verdict of one page, and the facts behind one topic."""

    def why(self, address: str) -> pd.DataFrame:
        """All that the rules looked at for the verdict of one page: rule, measure, value, threshold, passed, window, source; the rules in
        their order.

        A rule holds when all its figures passed; the first that holds decides. Raises NotFoundError for an unknown page.
        """
        from nibbet.core.verdicts import reasoning

        facts, page = self._facts, str(self._row_of(address)["page"].iloc[0])
        return reasoning(facts, int(facts.pages.index[facts.pages["page"] == page][0]))

    @cached_property
    def _facts(self) -> Facts:
        """The input of the rules, from the store if it is there."""
        from nibbet.core.findings import FACTS, Facts
        from nibbet.core.standing import Standing

        pages, climbs, groups, group_gains, stray_topics = (self._kept(f"facts-{name}", partial(_fact, name=name)) for name in FACTS)
        covers = self._kept("facts-covers", lambda p: p.decisions.facts.covers.to_frame("page"))["page"]
        standing = self._store.value("facts-standing", self._result_key, lambda: asdict(self._pipeline.decisions.facts.standing))
        untold = self._store.value("facts-untold", self._result_key, lambda: {"because": self._pipeline.decisions.facts.untold_because})
        settings = self.config
        return Facts(
            pages,
            climbs,
            groups,
            group_gains,
            stray_topics,
            covers=covers,
            windows=self.windows,
            limits=settings.verdicts,
            settled=settings.windows.settled,
            standing=Standing(**standing),
            untold_because=untold["because"],
        )

    def brief(self, topic: str) -> Brief:
        """What an author needs to write on a topic, given by its label or any of its queries. Raises NotFoundError."""
        from nibbet.core.briefs import make_brief
        from nibbet.core.business import business

        topics, queries = self.table("topics"), self._kept("brief-queries", lambda p: p.query_map.placed_queries)
        label = queries.loc[queries["query"] == " ".join(topic.lower().split()), "topic"]
        if label.empty:
            raise NotFoundError(f'No topic has the query "{topic}". See: nibbet topics')
        return make_brief(
            topics[topics["topic"] == label.iloc[0]].iloc[0],
            queries,
            self._kept("brief-results", lambda p: p.topics.results_for_briefs()),
            self._neighbours,
            business(self.config.about.model_dump()),
            home=self.config.site.home,
        )

    @cached_property
    def _neighbours(self) -> Neighbours:
        """The topics and pages around that of a brief."""
        from nibbet.core.briefs import Neighbours

        return Neighbours(self.table("topics"), self._kept("brief-pages", lambda p: p.topics.pages_for_briefs()), self.config.site.language)

    def briefs(self, write: Callable[[Brief, str], str], most: int = 12) -> pd.DataFrame:
        """The briefs of the proposals with the largest gains: topic, text (the result of `write` for a brief and the recent window).

        Texts of Nibbet's own writers are cached; another function is called every time.
        """

        def make() -> pd.DataFrame:
            import pandas as pd

            result = self.table("topics").query("proposal != 'none' and gain > 0").head(most)["topic"]
            texts = [write(self.brief(topic), str(self.windows.recent)) for topic in result]
            return pd.DataFrame({"topic": result.astype("str").reset_index(drop=True), "text": pd.Series(texts, dtype="str")})

        writer = f"{write.__module__}.{write.__qualname__}"
        return self._kept(f"briefs-{most}-{writer}", lambda _: make()) if writer.startswith("nibbet.") else make()
