# Vivid Shelf for @SHELL@. `vshelf connect` writes this file; what is changed here is lost.
# shellcheck shell=@CHECKED_AS@

__vshelf_data=@DATA@
__vshelf_program=@PROGRAM@
__vshelf_stamps=@STAMPS@
__vshelf_newline='
'
# Set by the file of functions, which is read when one is needed.
: "${__vshelf_loaded:=}"
# The folder that was looked at last, the requirement files from there upward, and what they resulted in.
__vshelf_here=''
__vshelf_named=''
__vshelf_followed=''
__vshelf_told=''

# Reads the functions that not every shell needs.
__vshelf_need() {
  if [ -z "$__vshelf_loaded" ]; then
    [ -r "$__vshelf_data/connect/functions.@SHELL@" ] || return 1
    # shellcheck source=/dev/null
    \. "$__vshelf_data/connect/functions.@SHELL@"
  fi
}

# Follows what the project here requires. Where nothing is required, that is found out at once.
__vshelf_look() {
  @EMULATE@
  # Another shell can have changed a default.
  if ! __vshelf_is_current; then
    __vshelf_load
    if __vshelf_need; then __vshelf_name_all; fi
  fi
  if [ -z "$__vshelf_requirements" ]; then return 0; fi
  if [ "$PWD" = "$__vshelf_here" ]; then
    if [ -z "$__vshelf_named" ] && ! __vshelf_has_requirement .; then return 0; fi
  elif [ -z "$__vshelf_followed" ] && ! __vshelf_has_requirement .; then
    # Folders above one without requirement files were looked at with it.
    case $__vshelf_empty in
      "${PWD%/*}"/*)
        __vshelf_here=$PWD __vshelf_empty=${PWD%/}/
        return 0
        ;;
    esac
    __vshelf_at=${PWD%/}
    until [ -z "$__vshelf_at" ]; do
      __vshelf_at=${__vshelf_at%/*}
      case $__vshelf_empty in "$__vshelf_at"/*) break ;; esac
      if __vshelf_has_requirement "$__vshelf_at"; then
        __vshelf_at=-
        break
      fi
    done
    if [ "$__vshelf_at" != - ]; then
      __vshelf_here=$PWD __vshelf_empty=${PWD%/}/ __vshelf_named='' __vshelf_told=''
      return 0
    fi
  fi
  __vshelf_empty=''
  if __vshelf_need; then __vshelf_look_closely; fi
}

# Runs the program, and lets it change this shell.
vshelf() {
  __vshelf_need || {
    command printf '%s\n' "vshelf: $__vshelf_data/connect is not whole; run: $__vshelf_program connect" >&2
    return 127
  }
  __vshelf_call "$@"
}

# Reads which runtimes there are and which files require them.
__vshelf_load() {
  __vshelf_requirements=''
  __vshelf_mains=''
  __vshelf_says=''
  # The last folder found without requirement files, with / at its end.
  __vshelf_empty=''
  if [ -r "$__vshelf_data/connect/runtimes.@SHELL@" ]; then
    # shellcheck source=/dev/null
    \. "$__vshelf_data/connect/runtimes.@SHELL@"
  fi
}

__vshelf_is_current() { :; }
__vshelf_name_all() { :; }
__vshelf_enter_all() { :; }
__vshelf_has_requirement() { return 1; }
__vshelf_load
__vshelf_enter_all
__vshelf_look

# The program was replaced where its time is another than that of the one that wrote this file. It then writes
# the file anew, whatever it is asked. What was only printed is in no file.
# shellcheck disable=SC3013
if { [ "$__vshelf_program" -nt "$__vshelf_data/connect/program" ] || [ "$__vshelf_program" -ot "$__vshelf_data/connect/program" ]; } &&
  [ -x "$__vshelf_program" ] && [ -r "$__vshelf_data/connect/shelf.@SHELL@" ] && [ -z "${__vshelf_renewed-}" ]; then
  __vshelf_renewed=1
  VSHELF_SHELL='@SHELL@' "$__vshelf_program" connect --look @SHELL@ >/dev/null 2>&1 || :
  # The functions that were read may be those of the program before.
  __vshelf_loaded=''
  # shellcheck source=/dev/null
  \. "$__vshelf_data/connect/shelf.@SHELL@"
  __vshelf_renewed=''
fi
