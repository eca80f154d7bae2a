"""A look at a table, cell by cell as in a notebook: what is it like, what strays, and can it be trusted?

python look_at_a_table.py taps.csv labels.csv
"""

# %%
import sys

import watchtide as wt

table, labels = sys.argv[1:3]

# %% Which seasons are there?
for season in wt.seasons(table, tz="Europe/Dublin").to_pylist():
    print(
        f"{season['series'] or 'the only stream'}: {season['period_s'] / 3600:g} h, strength {season['strength']:.2f}"
    )

# %% What strays?
found = wt.scan(table, labels=labels, tz="Europe/Dublin")
print(found)
for row in found.findings.to_pylist()[:5]:
    print(
        f"{row['start']:%d %b %H:%M}  {row['kind']} {row['direction']}  {row['score'] or 0:.1f} sigmas  {row['series']}"
    )

# %% A picture of each stream
for key in found.series:
    found.plot(key).save(f"{key.replace('=', '-') or 'stream'}.png")

# %% Is the baseline any good?
print(wt.diagnose(table, tz="Europe/Dublin"))

# %% Precision against what is known, and the best level for it
print(wt.score(found, labels))
print("best level:", wt.threshold(found, labels, min_recall=0.5))
