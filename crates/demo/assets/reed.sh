#!/bin/sh
# Reed, the package tool of Orache. It keeps packages in folders that are named after them.
here=$(cd "$(dirname "$0")/.." && pwd)
packages=$here/lib/orache/packages
case ${1-} in
  add)
    name=${2%@*} version=${2##*@}
    [ "$name" != "$2" ] || version=1.0.0
    mkdir -p "$packages/$name-$version" && echo "added $name ($version)" ;;
  list)
    for folder in "$packages"/*-*; do
      [ -d "$folder" ] || continue
      folder=${folder##*/}
      echo "${folder%-*} (${folder##*-})"
    done ;;
  *) echo 'usage: reed add NAME[@VERSION] | list' >&2; exit 2 ;;
esac
