"""Pictures of the report, from the demo: python docs/pictures.py SITE OUT"""

from __future__ import annotations

import shutil
import sys
from pathlib import Path

from playwright.sync_api import sync_playwright

VIEWS = {"report": "", "report-pages": "#pages", "dossier": "#page=%2Frivers%2Fgillangarth%2F"}

site, out = Path(sys.argv[1]).resolve(), Path(sys.argv[2])
with sync_playwright() as play:
    browser = play.chromium.launch(executable_path=shutil.which("chromium"), args=["--no-sandbox"])
    for name, part in VIEWS.items():
        page = browser.new_page(viewport={"width": 1280, "height": 900})
        page.goto(f"file://{site / 'out' / 'report.html'}{part}")
        page.wait_for_selector('[data-list="pages"] .tabulator-row')
        page.wait_for_timeout(300)
        if part == "#pages":
            page.evaluate("document.getElementById('pages').scrollIntoView()")
        page.screenshot(path=out / f"{name}.png")
    browser.close()
