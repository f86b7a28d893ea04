"""Draws how far each light is seen, over the extinction of the air."""
import sys

import job
import svg

facts = job.load()
width, height = (int(word) for word in sys.argv[1:3])
sweep = job.rows(facts["need_groups"]["sweep"][0])
plot = svg.Plot(
    width,
    height,
    "How far the lights are seen",
    ("extinction of the air, per km", 0.04, 4),
    ("range, km", 1, 120),
)
for row in job.rows(facts["need_groups"]["weather"][0]):
    x = plot.at_x(float(row["middle"]))
    plot.parts.append(f'<path d="M{x:.1f} {plot.top}V{height - plot.bottom}" stroke="#999" stroke-dasharray="4 4"/>')
    plot.text(x + 4, height - plot.bottom - 8, row["weather"], ink="#777")
lights = sorted({row["light"] for row in sweep})
farthest = {}
for row in sweep:
    farthest[row["light"]] = max(farthest.get(row["light"], 0), float(row["middle"]))
lights.sort(key=lambda light: -farthest[light])
names = []
for light, ink in zip(lights, svg.INKS * len(lights)):
    rows = sorted((row for row in sweep if row["light"] == light), key=lambda row: float(row["sigma"]))
    points = [[float(row[name]) for name in ("sigma", "low", "middle", "high")] for row in rows]
    plot.band([(sigma, low, high) for sigma, low, _, high in points], ink)
    plot.line([(sigma, middle) for sigma, _, middle, _ in points], ink)
    names.append((light, ink))
for place, (light, ink) in enumerate(names):
    y = plot.top + 18 + 20 * place
    plot.parts.append(f'<rect x="{width - 108}" y="{y - 9}" width="14" height="4" fill="{ink}"/>')
    plot.text(width - 88, y - 3, light)
plot.write(facts["targets"][0])
