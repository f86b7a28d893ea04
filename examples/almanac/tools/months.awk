# Lamp hours for each month, of lines DATE,HOURS in order.
BEGIN { FS = "," }
{ month = substr($1, 1, 7); hours[month] += $2; nights[month]++; if (!(month in seen)) { seen[month] = 1; order[++n] = month } }
END { for (i = 1; i <= n; i++) printf "%s,%.1f,%d\n", order[i], hours[order[i]], nights[order[i]] }
