# Keeps lines of the form DATE,HOURS with 0 to 24 hours; everything else is a slip of the pen.
BEGIN { FS = "," }
{ sub(/\r$/, "") }
/^#/ || NF != 2 { next }
$1 !~ /^[0-9][0-9][0-9][0-9]-[0-9][0-9]-[0-9][0-9]$/ { next }
$2 !~ /^[0-9]+(\.[0-9]+)?$/ || $2 > 24 { next }
{ printf "%s,%.2f\n", $1, $2 }
