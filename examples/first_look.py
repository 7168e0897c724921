"""A site from data frames: what is lost when addresses differ, and what each page deserves."""

import numpy as np
import pandas as pd

import nibbet

rng = np.random.default_rng(1)
days = pd.date_range("2025-08-01", "2026-10-31")
paths = ["/rivers/arrowbeck/", "/rivers/elverdale/", "/kit/dry-bag/", "/journal/old-news/"]
ctr = {"/rivers/arrowbeck/": 0.12, "/rivers/elverdale/": 0.12, "/kit/dry-bag/": 0.10, "/journal/old-news/": 0.0}

shown = pd.DataFrame([(day, path) for day in days for path in paths], columns=["day", "path"])
# nobody looks for the old news; the Elverdale page sank in June
shown["impressions"] = np.where(shown["path"] == "/journal/old-news/", 0, rng.poisson(60, len(shown)))
sunk = (shown["path"] == "/rivers/elverdale/") & (shown["day"] > "2026-06-15")
shown["position"] = np.where(sunk, 9.0, 2.5) + rng.normal(0, 0.2, len(shown))
rate = np.where(sunk, 0.02, shown["path"].map(ctr))
shown["clicks"] = rng.binomial(shown["impressions"], rate)

search = pd.DataFrame(
    {
        "date": shown["day"],
        "page": "https://www.tarnbrook.example" + shown["path"],
        "query": shown["path"].str.split("/").str[2].str.replace("-", " "),
        "clicks": shown["clicks"],
        "impressions": shown["impressions"],
        "position": shown["position"],
    }
)
landings = pd.DataFrame(
    {
        "date": shown["day"],
        "page": shown["path"].str.rstrip("/"),
        "channel": "organic search",
        "sessions": shown["clicks"],
        "conversions": 0,
    }
)
crawl = pd.DataFrame(
    {
        "page": ["https://tarnbrook.example" + path for path in paths],
        "status": 200,
        "title": ["Arrowbeck", "Elverdale", "Dry bag guide", "Old news"],
    }
)

backlinks = pd.DataFrame({"from_url": ["https://paddlers.example/links"], "page": ["/rivers/elverdale/"], "anchor": ["Elverdale"]})

site = nibbet.Site(home="https://tarnbrook.example/", search=search, landings=landings, backlinks=backlinks, crawl=crawl)
print(site.addresses.head(6).to_string(index=False))
print(site.verdicts()[["page", "verdict", "cause", "because"]].to_string(index=False))
site.close()
