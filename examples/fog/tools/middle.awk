# The middle of the nights of one weather, and between which values they lie.
BEGIN { FS = OFS = "," }
{ middle[NR] = $5 + 0 }
END {
  for (i = 2; i <= NR; i++)
    for (j = i; j > 1 && middle[j] < middle[j - 1]; j--) { t = middle[j]; middle[j] = middle[j - 1]; middle[j - 1] = t }
  at = int((NR + 1) / 2)
  printf "%s,%d,%.4f,%.4f,%.4f\n", weather, NR, middle[1], (middle[at] + middle[NR + 1 - at]) / 2, middle[NR]
}
