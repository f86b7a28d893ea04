"""What a step is given to know."""
import csv
import json
import os
import sys


def load():
    """The facts of the job that runs this script."""
    if "HANDLOOM_JOB" not in os.environ:
        sys.exit(f"{sys.argv[0]}: a step of hand.loom runs this; try `handloom`")
    with open(os.environ["HANDLOOM_JOB"], encoding="utf-8") as file:
        return json.load(file)


def rows(path):
    """The rows of a table, by the names of its columns."""
    with open(path, encoding="utf-8") as file:
        return list(csv.DictReader(file))
