#!/bin/sh
# The second step of Orache's build: it takes a while, as compilers do.
for part in sender receiver clock tides; do
  [ -e "$part.done" ] && continue
  echo "compiling $part"
  if [ "$part-${1-}" = receiver---with-kelp ]; then
    echo 'receiver.c:14:10: fatal error: kelp/kelp.h: No such file or directory'
    exit 1
  fi
  sleep 0.1
  : >"$part.done"
done
echo 'all parts are compiled'
