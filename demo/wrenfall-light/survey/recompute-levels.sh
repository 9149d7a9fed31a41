#!/bin/sh
# Sums up the levels by course: mean height, mean radius, largest lean.
set -eu
awk -F, 'NR > 1 { n[$1]++; h[$1] += $3; r[$1] += $4; if ($5 > l[$1]) l[$1] = $5 }
    END { for (c in n) printf "%d,%.1f,%.1f,%.2f\n", c, h[c]/n[c], r[c]/n[c], l[c] }' \
    "$(dirname "$0")/levels.csv" | sort -n
