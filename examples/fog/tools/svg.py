"""A drawing with two logarithmic or even axes, as SVG."""
import math

INKS = ["#1f5a8a", "#b3541e", "#2f7d4f", "#7a4f9a", "#8a7a1f"]


class Plot:
    """A frame with axes; positions are given in the values of the axes."""

    def __init__(self, width, height, title, x, y):
        self.width, self.height = width, height
        self.left, self.right, self.top, self.bottom = 64, 120, 40, 48
        (self.x_title, self.x_from, self.x_to), (self.y_title, self.y_from, self.y_to) = x, y
        self.parts = [
            f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {width} {height}" role="img" '
            f'font-family="system-ui, sans-serif" font-size="13">',
            f"<title>{title}</title>",
            f'<rect width="{width}" height="{height}" fill="#fdfcf9"/>',
            f'<text x="{self.left}" y="24" font-size="15" font-weight="600" fill="#222">{title}</text>',
        ]
        self.axes()

    def at_x(self, value):
        part = math.log(value / self.x_from) / math.log(self.x_to / self.x_from)
        return self.left + part * (self.width - self.left - self.right)

    def at_y(self, value):
        part = math.log(value / self.y_from) / math.log(self.y_to / self.y_from)
        return self.height - self.bottom - part * (self.height - self.top - self.bottom)

    def axes(self):
        left, right = self.left, self.width - self.right
        top, bottom = self.top, self.height - self.bottom
        for value in marks(self.x_from, self.x_to):
            x = self.at_x(value)
            self.parts.append(f'<path d="M{x:.1f} {top}V{bottom}" stroke="#e4e0d6"/>')
            self.text(x, bottom + 18, f"{value:g}", "middle", "#555")
        for value in marks(self.y_from, self.y_to):
            y = self.at_y(value)
            self.parts.append(f'<path d="M{left} {y:.1f}H{right}" stroke="#e4e0d6"/>')
            self.text(left - 8, y + 4, f"{value:g}", "end", "#555")
        self.text((left + right) / 2, bottom + 38, self.x_title, "middle", "#333")
        middle = (top + bottom) / 2
        self.parts.append(
            f'<text transform="translate(18 {middle}) rotate(-90)" text-anchor="middle" fill="#333">{self.y_title}</text>'
        )

    def text(self, x, y, text, anchor="start", ink="#222"):
        self.parts.append(f'<text x="{x:.1f}" y="{y:.1f}" text-anchor="{anchor}" fill="{ink}">{text}</text>')

    def line(self, points, ink):
        path = "L".join(f"{self.at_x(x):.1f} {self.at_y(y):.1f}" for x, y in points)
        self.parts.append(f'<path d="M{path}" fill="none" stroke="{ink}" stroke-width="2"/>')

    def band(self, points, ink):
        over = [(self.at_x(x), self.at_y(high)) for x, _, high in points]
        under = [(self.at_x(x), self.at_y(low)) for x, low, _ in reversed(points)]
        path = "L".join(f"{x:.1f} {y:.1f}" for x, y in over + under)
        self.parts.append(f'<path d="M{path}Z" fill="{ink}" opacity="0.14"/>')

    def dot(self, x, y, ink):
        self.parts.append(f'<circle cx="{self.at_x(x):.1f}" cy="{self.at_y(y):.1f}" r="4" fill="{ink}"/>')

    def write(self, path):
        with open(path, "w", encoding="utf-8") as out:
            out.write("\n".join(self.parts) + "\n</svg>\n")


def marks(low, high):
    """1, 2 and 5 of each power of ten between two values."""
    for power in range(math.floor(math.log10(low)), math.ceil(math.log10(high)) + 1):
        for one in (1, 2, 5):
            value = one * 10.0**power
            if low <= value * 1.0001 and value <= high * 1.0001:
                yield value
