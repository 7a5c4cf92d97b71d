#!/bin/sh
# Orache @VERSION@, a made-up language for telemetry. This is a stand-in for demonstrations.
case ${1-} in
  -version) echo 'orache version "@VERSION@"' >&2; exit 0 ;;
  -e) program=${2-} ;;
  *) echo 'usage: orache -version | -e PROGRAM' >&2; exit 2 ;;
esac
case $program in
  'send version') echo '@VERSION@' ;;
  'send home') printf '%s\n' "${ORACHE_HOME-}" ;;
  *) echo "orache: not understood: $program" >&2; exit 1 ;;
esac
