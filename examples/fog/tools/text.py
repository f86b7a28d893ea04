"""Puts the numbers and the figures into the text. A number that is not there is an error, and so is one that nobody cites."""
import json
import os
import re
import sys

import job

facts = job.load()
groups = facts["need_groups"]
with open(groups["numbers"][0], encoding="utf-8") as file:
    numbers = json.load(file)
figures = {os.path.basename(path): path for path in groups["figures"]}
cited = set()


def put_in(found):
    kind, name = found.group(1), found.group(2)
    if kind == "figure":
        if name not in figures:
            sys.exit(f"text/report.html wants the figure {name}, which is not there: {', '.join(sorted(figures))}")
        with open(figures[name], encoding="utf-8") as file:
            return file.read()
    if name not in numbers:
        sys.exit(f"text/report.html cites {name}, which is no number: {', '.join(sorted(numbers))}")
    cited.add(name)
    return numbers[name]


with open(groups["text"][0], encoding="utf-8") as file:
    text = re.sub(r"\[(number|figure) ([\w.]+)\]", put_in, file.read())
unused = sorted(set(numbers) - cited)
if unused:
    print("not cited: " + ", ".join(unused))
with open(facts["targets"][0], "w", encoding="utf-8") as out:
    out.write(text)
