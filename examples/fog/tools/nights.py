"""Draws the extinction of each night, by its weather."""
import sys

import job
import svg

facts = job.load()
width, height = (int(word) for word in sys.argv[1:3])
nights = []
for path in facts["needs"]:
    if path.endswith(".csv"):
        with open(path, encoding="utf-8") as file:
            night, weather, _, low, middle, high = file.read().strip().split(",")
        nights.append((float(middle), float(low), float(high), weather, night))
nights.sort()
plot = svg.Plot(
    width,
    height,
    "The nights, from clear to fog",
    ("extinction of the air, per km", 0.02, 4),
    ("nights", 1, 10),
)
# Nights stand one above the other, not on a scale: the marks of the upright axis are taken away.
plot.parts = [part for part in plot.parts if 'text-anchor="end"' not in part and "H" + str(width - plot.right) not in part]
weathers = sorted({night[3] for night in nights}, key=lambda name: min(n[0] for n in nights if n[3] == name))
inks = dict(zip(weathers, svg.INKS * len(weathers)))
room = height - plot.top - plot.bottom
for place, (middle, low, high, weather, night) in enumerate(nights):
    y = height - plot.bottom - (place + 0.5) * room / len(nights)
    low = max(low, plot.x_from)
    plot.parts.append(
        f'<path d="M{plot.at_x(low):.1f} {y:.1f}H{plot.at_x(high):.1f}" stroke="{inks[weather]}" stroke-width="3" opacity="0.35"/>'
    )
    plot.parts.append(f'<circle cx="{plot.at_x(max(middle, plot.x_from)):.1f}" cy="{y:.1f}" r="4" fill="{inks[weather]}"/>')
    plot.text(plot.left - 8, y + 4, night, "end", "#555")
for place, weather in enumerate(weathers):
    y = plot.top + 18 + 20 * place
    plot.parts.append(f'<circle cx="{width - 101}" cy="{y - 7}" r="4" fill="{inks[weather]}"/>')
    plot.text(width - 88, y - 3, weather)
plot.write(facts["targets"][0])
