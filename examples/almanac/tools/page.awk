# The almanac: the chart, the table of all lights, and the year of each.
# Called with the summary first, then one drawing for each light.
function read(file,    line, text) { text = ""; while ((getline line < file) > 0) text = text line "\n"; close(file); return text }
BEGIN {
    FS = ","
    print "<!DOCTYPE html>"
    print "<html lang=\"en\"><head><meta charset=\"utf-8\"><title>Almanac of the Vellan lights</title>"
    print "<meta name=\"viewport\" content=\"width=device-width\"><style>"
    print ":root { color-scheme: light dark; --ink: #1d2733; --faint: #67768a; --ground: #f7f5ef; --card: #ffffff; --line: #d9d4c5; --lamp: #c77d0a; --sea: #dfe9ee }"
    print "@media (prefers-color-scheme: dark) { :root { --ink: #e6e3da; --faint: #98a3b3; --ground: #12181f; --card: #1a222c; --line: #2e3945; --lamp: #f0b54a; --sea: #17242e } }"
    print "body { margin: 0 auto; max-width: 74rem; padding: 2.5rem 1.5rem 4rem; background: var(--ground); color: var(--ink); font: 16px/1.5 Georgia, 'DejaVu Serif', serif }"
    print "h1 { font-weight: normal; font-size: 2.3rem; margin: 0 } h2 { font-weight: normal; margin: 2.5rem 0 1rem } p.sub { color: var(--faint); margin: .3rem 0 2rem }"
    print ".top { display: grid; grid-template-columns: 1fr 1fr; gap: 2rem; align-items: start } .card { background: var(--card); border: 1px solid var(--line); border-radius: 6px; padding: 1rem }"
    print "table { border-collapse: collapse; width: 100%; font-size: .95rem } th { text-align: left; font-weight: normal; color: var(--faint) } td, th { padding: .28rem .5rem; border-bottom: 1px solid var(--line) } .n { text-align: right; font-variant-numeric: tabular-nums }"
    print ".years { display: grid; grid-template-columns: repeat(auto-fill, minmax(21rem, 1fr)); gap: 1.2rem } svg { display: block; width: 100%; height: auto } svg text { fill: var(--ink); font-family: inherit } svg .faint { fill: var(--faint) } svg .bar { fill: var(--lamp) } svg .ring { fill: var(--lamp); fill-opacity: .13; stroke: var(--lamp); stroke-opacity: .55 } svg .lamp { fill: var(--lamp) } svg .axis { stroke: var(--line) } svg .sea { fill: var(--sea) }"
    print "@media (max-width: 56rem) { .top { grid-template-columns: 1fr } }"
    print "</style></head><body><h1>Almanac of the Vellan lights</h1>"
    print "<p class=\"sub\">Thirteen lights, their reach, and how long their lamps burned through the year</p>"
    print "<div class=\"top\"><div class=\"card\">" read(chart) "</div><div class=\"card\"><table>"
    print "<tr><th>Light</th><th>Character</th><th class=\"n\">Reach, miles</th><th class=\"n\">Lamp hours</th></tr>"
}
FILENAME == ARGV[1] { printf "<tr><td>%s</td><td>%s</td><td class=\"n\">%.1f</td><td class=\"n\">%.0f</td></tr>\n", $2, $3, $4, $5; next }
FNR == 1 { if (!years++) print "</table></div></div><h2>The year of each light</h2><div class=\"years\">"; else print "</div>"; print "<div class=\"card\">" }
{ print }
END { if (years) print "</div>"; print "</div></body></html>" }
