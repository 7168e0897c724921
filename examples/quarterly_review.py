"""A quarterly review from a folder of exports: python examples/quarterly_review.py FOLDER

`nibbet demo FOLDER` makes such a folder.
"""

import sys

import nibbet

site = nibbet.open_site(sys.argv[1])

print("1. Does what was read add up?")
for source in site.account["sources"][:3]:
    aside = sum(gone["rows"] for gone in source["set_aside"])
    print(f"   {source['file']}: {source['rows_read']:,} rows read, {source['rows_used']:,} used, {aside:,} set aside")
for note in site.account["notes"][:2]:
    print(f"   {note['text']}")

print("2. What changed against the same days a year before, beyond chance, and why?")
changes = site.compare(by="page")
for row in changes[changes["real"]].head(5).itertuples():
    print(f"   {row.key} {row.change:+,.0f} clicks ({row.change_low:+,.0f} to {row.change_high:+,.0f}), most by {row.why}")

print("3. What should be done with each page?")
verdicts = site.verdicts()
print(verdicts.groupby("verdict")["gain"].agg(["size", "sum"]).round().to_string())
for row in verdicts.head(3).itertuples():
    print(f"   {row.verdict} {row.page}: {row.because}")

print("4. What is there to write?")
for row in site.topics().query("proposal == 'new page'").head(3).itertuples():
    print(f"   {row.label}: {row.volume:,} {row.volume_kind}, {row.gain:,.0f} clicks a month ({row.gain_low:,.0f} to {row.gain_high:,.0f})")

print("5. Hand it on.")
for path in site.write():
    if path.suffix in (".html", ".xlsx"):
        print("   wrote", path.name)
site.close()
