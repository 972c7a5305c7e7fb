#!/bin/sh
# Hours and minutes of a passage. JSON is read with sed: the two numbers are all it needs.
call=$(cat)
number() { printf '%s' "$call" | sed -n "s/.*\"$1\":\([0-9.]*\).*/\1/p"; }
miles=$(number miles) speed=$(number speed_kn)
echo "miles $miles at $speed knots" >&2
awk -v m="$miles" -v s="$speed" 'BEGIN {
  if (s > 60) exit 4
  t = int(m / s * 60 + 0.5)
  printf "%d h %02d min\n", t / 60, t % 60
}'
