"""Gathers the numbers that the text cites."""
import json
import sys

import job

facts = job.load()
groups = facts["need_groups"]
weather = {row["weather"]: row for row in job.rows(groups["weather"][0])}
sweep = job.rows(groups["sweep"][0])
samples = job.rows(groups["samples"][0])
brightest = max(sweep, key=lambda row: float(row["middle"]))
thickest = max(float(row["sigma"]) for row in sweep)
in_fog = [row for row in sweep if float(row["sigma"]) == thickest]
best, worst = max(in_fog, key=lambda row: float(row["middle"])), min(in_fog, key=lambda row: float(row["middle"]))
numbers = {
    "nights": str(len(samples)),
    "weathers": str(len(weather)),
    "threshold": sys.argv[1],
    "brightest": brightest["light"],
    "brightest_range": f"{float(brightest['middle']):.0f}",
    "thickest": f"{thickest:g}",
    "best_in_fog": best["light"],
    "best_in_fog_range": f"{float(best['middle']):.1f}",
    "worst_in_fog": worst["light"],
    "worst_in_fog_range": f"{float(worst['middle']):.1f}",
}
for name, row in weather.items():
    numbers[f"{name}_middle"] = f"{float(row['middle']):.2f}"
    numbers[f"{name}_nights"] = row["nights"]
with open(facts["targets"][0], "w", encoding="utf-8") as out:
    json.dump(numbers, out, indent=1, sort_keys=True)
    out.write("\n")
