"""The command beside what Python gives."""

import csv
import subprocess
import sys


def commanded(folder, *arguments):
    """What a command did in a folder, which has to succeed."""
    done = subprocess.run(
        [sys.executable, "-m", "watchtide.cli.main", *arguments], cwd=folder, capture_output=True, text=True
    )
    assert done.returncode == 0, done.stderr
    return done


def rows_of(path):
    with open(path) as file:
        return list(csv.DictReader(file))
