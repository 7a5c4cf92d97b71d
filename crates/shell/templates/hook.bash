# Vivid Shelf for bash. `vshelf setup` writes this file; what is changed here is lost.
# shellcheck shell=bash

__vshelf_data=@DATA@
__vshelf_program=@PROGRAM@

# __vshelf_enter RUNTIME HOME_VARIABLE FOLDER...
# Puts the folders of what is active in front of PATH: the version this shell (or the one that
# started it) was switched to, or else the default.
__vshelf_enter() {
  local runtime=$1 variable=$2 base key folder front='' rest entry kept=''
  shift 2
  rest=" ${VSHELF_SWITCHED-}"
  key=${rest##*" $runtime="}
  [[ $key == "$rest" ]] && key='' || key=${key%% *}
  case $key in
    '') base=$__vshelf_data/$runtime/default ;;
    system) base='' ;;
    *) base=$__vshelf_data/$runtime/installs/$key ;;
  esac
  if [[ -n $base ]]; then
    for folder in "$@"; do front+=$base/$folder:; done
  fi
  rest=$PATH:
  while [[ -n $rest ]]; do
    entry=${rest%%:*}
    rest=${rest#*:}
    [[ $entry == "$__vshelf_data/$runtime/"* ]] || kept+=$entry:
  done
  PATH=$front${kept%:}
  if [[ -n $variable ]]; then
    if [[ -n $base && -d $base ]]; then
      export "$variable=$base"
    elif [[ ${!variable-} == "$__vshelf_data/$runtime/"* ]]; then
      unset -v "$variable"
    fi
  fi
}

# Runs the program and evaluates what it changes in this shell (it writes that to descriptor 3).
vshelf() {
  local program=$__vshelf_program text='' status=0
  [[ -x $program ]] || program=$(builtin type -P vshelf) || {
    builtin printf '%s\n' \
      "vshelf: the program is gone from $__vshelf_program; install it again and run: vshelf setup" >&2
    return 127
  }
  case ${1-} in
    switch | default | install | remove | -*)
      {
        text=$(VSHELF_SHELL=bash VSHELF_EVALUATE=3 "$program" "$@" 3>&1 1>&4 4>&-) || status=$?
      } 4>&1
      [[ -z $text ]] || builtin eval "$text"
      return "$status"
      ;;
    *) VSHELF_SHELL=bash "$program" "$@" ;;
  esac
}

if [[ -r $__vshelf_data/hooks/runtimes.bash ]]; then
  # shellcheck source=/dev/null
  builtin source "$__vshelf_data/hooks/runtimes.bash"
fi
