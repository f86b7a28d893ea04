# The table of lights as a C header: key, title, character, height in metres, candela, x, y.
BEGIN { FS = ","; print "/* made from data/lights.csv */"; print "static const struct light lights[] = {" }
/^#/ || NF < 7 { next }
{ printf "    {\"%s\", \"%s\", \"%s\", %s, %s, %s, %s},\n", $1, $2, $3, $4, $5, $6, $7 }
END { print "};" }
