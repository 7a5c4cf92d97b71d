#!/bin/sh
# Tussock @TUSSOCK@, the package tool of Marram: keeps packages inside the install.
here=$(CDPATH='' cd -- "$(dirname -- "$0")/.." && pwd) || exit 1
packages=$here/lib/marram/packages
usage() { echo 'usage: tussock --version | list | add NAME[@VERSION] | remove NAME' >&2; exit 2; }
case ${1-} in
  --version) echo '@TUSSOCK@' ;;
  list)
    for file in "$packages"/*; do
      [ -f "$file" ] && printf '%s %s\n' "${file##*/}" "$(cat -- "$file")"
    done ;;
  add | remove)
    name=${2%%@*}
    version=${2#"$name"}
    case $name in '' | *[!a-z0-9-]*) usage ;; esac
    if [ "$1" = add ]; then
      printf '%s\n' "${version:-@1.0.0}" | cut -c 2- >"$packages/$name"
    else
      rm -- "$packages/$name"
    fi ;;
  *) usage ;;
esac
exit 0
