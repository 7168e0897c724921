"""Decide on every page of a folder of exports: python examples/from_folder.py FOLDER"""

import sys

import nibbet

site = nibbet.open_site(sys.argv[1])
verdicts = site.verdicts()
print(verdicts["verdict"].value_counts().to_string())
print(verdicts.head(5)[["page", "verdict", "gain", "because"]].to_string(index=False))
for path in site.write():
    print("wrote", path.name)
site.close()
