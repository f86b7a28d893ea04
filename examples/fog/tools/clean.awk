# A lookout's book: comments, broken lines, and hours at which a light was not seen are left out.
BEGIN { FS = OFS = "," }
/^#/ { next }
NF == 3 && ($3 == "range" || $3 + 0 > 0) { print }
