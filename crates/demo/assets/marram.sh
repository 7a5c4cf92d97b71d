#!/bin/sh
# Marram @VERSION@, a made-up language for instruments. This is a stand-in for demonstrations.
case ${1-} in
  --version) echo 'marram @VERSION@'; exit 0 ;;
  -e) program=${2-} ;;
  '' | -*) echo 'usage: marram --version | -e PROGRAM | FILE' >&2; exit 2 ;;
  *) [ -r "$1" ] || { echo "marram: $1 cannot be read" >&2; exit 2; }
     program=$(cat -- "$1") ;;
esac
number=0
printf '%s\n' "$program" | while IFS= read -r line; do
  number=$((number + 1))
  case $line in
    '' | '#'*) ;;
    'print version') echo '@VERSION@' ;;
    'print home') printf '%s\n' "${MARRAM_HOME-}" ;;
    'print "'*'"') line=${line#print \"}; printf '%s\n' "${line%\"}" ;;
    *) echo "marram: line $number is not understood: $line" >&2; exit 1 ;;
  esac
done
