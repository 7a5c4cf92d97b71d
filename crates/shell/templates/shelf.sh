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

# __vshelf_word RUNTIME WORDS: sets __vshelf_value to what RUNTIME= has in WORDS.
__vshelf_word() {
  case " $2" in
    *" $1="*)
      __vshelf_value=" $2"
      __vshelf_value=${__vshelf_value##*" $1="}
      __vshelf_value=${__vshelf_value%% *}
      ;;
    *) __vshelf_value='' ;;
  esac
}

# __vshelf_choose RUNTIME: sets __vshelf_value to what this shell was switched to, or else what it follows.
__vshelf_choose() {
  __vshelf_word "$1" "${VSHELF_SWITCHED-}"
  if [ -z "$__vshelf_value" ]; then
    __vshelf_word "$1" "$__vshelf_followed"
  fi
}

# __vshelf_enter RUNTIME HOME_VARIABLE FOLDER...
# Puts the folders of what is active in front of PATH: the version this shell (or the one that
# started it) was switched to, or else what the project here requires, or else the default.
__vshelf_enter() {
  @EMULATE@
  __vshelf_runtime=$1
  __vshelf_variable=$2
  shift 2
  __vshelf_choose "$__vshelf_runtime"
  case $__vshelf_value in
    '' | '?') __vshelf_base=$__vshelf_data/default/$__vshelf_runtime ;;
    system) __vshelf_base='' ;;
    *) __vshelf_base=$__vshelf_data/shelf/$__vshelf_runtime/$__vshelf_value/build ;;
  esac
  __vshelf_path=''
  if [ -n "$__vshelf_base" ]; then
    for __vshelf_folder in "$@"; do
      __vshelf_path=$__vshelf_path$__vshelf_base/$__vshelf_folder:
    done
  fi
  __vshelf_rest=$PATH:
  while [ -n "$__vshelf_rest" ]; do
    __vshelf_entry=${__vshelf_rest%%:*}
    __vshelf_rest=${__vshelf_rest#*:}
    case $__vshelf_entry/ in
      "$__vshelf_data/default/$__vshelf_runtime"/* | "$__vshelf_data/shelf/$__vshelf_runtime"/*) ;;
      *) __vshelf_path=$__vshelf_path$__vshelf_entry: ;;
    esac
  done
  PATH=${__vshelf_path%:}
  if [ -n "$__vshelf_variable" ]; then
    \eval "__vshelf_value=\${$__vshelf_variable-}"
    if [ -n "$__vshelf_base" ] && [ -d "$__vshelf_base" ]; then
      \export "$__vshelf_variable=$__vshelf_base"
    else
      case $__vshelf_value/ in
        "$__vshelf_data/default/$__vshelf_runtime"/* | "$__vshelf_data/shelf/$__vshelf_runtime"/*)
          \unset -v "$__vshelf_variable"
          ;;
      esac
    fi
  fi
}

# Sets __vshelf_shown to the selector of the key $1: dunefield/8.3.1 for dunefield-8.3.1.
__vshelf_show() {
  __vshelf_shown=$1
  case $1 in
    [0-9]*) ;;
    *-[0-9]*)
      __vshelf_shown=${1%%-[0-9]*}
      __vshelf_shown=$__vshelf_shown/${1#"$__vshelf_shown-"}
      ;;
  esac
}

# __vshelf_name_active RUNTIME DEFAULT: adds to VSHELF_ACTIVE what is active of it, for prompts to show.
__vshelf_name_active() {
  __vshelf_choose "$1"
  case $__vshelf_value in
    '' | '?') __vshelf_shown=$2 ;;
    *) __vshelf_show "$__vshelf_value" ;;
  esac
  if [ -n "$__vshelf_shown" ]; then
    VSHELF_ACTIVE="$VSHELF_ACTIVE${VSHELF_ACTIVE:+, }$1 $__vshelf_shown"
  fi
}

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
    __vshelf_name_all
  fi
  if [ -z "$__vshelf_requirements" ]; then return 0; fi
  if [ "$PWD" = "$__vshelf_here" ]; then
    if [ -z "$__vshelf_named" ] && ! __vshelf_has_requirement "${PWD%/}"; then return 0; fi
  elif [ -z "$__vshelf_followed" ]; then
    __vshelf_at=$PWD
    until __vshelf_has_requirement "${__vshelf_at%/}"; do
      case $__vshelf_at in
        / | '')
          __vshelf_here=$PWD
          __vshelf_named=''
          __vshelf_told=''
          return 0
          ;;
        /*/*) __vshelf_at=${__vshelf_at%/*} ;;
        *) __vshelf_at=/ ;;
      esac
    done
  fi
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
  __vshelf_says=''
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
# the file anew, whatever it is asked.
# shellcheck disable=SC3013
if [ -z "${__vshelf_renewed-}" ] && [ -x "$__vshelf_program" ] &&
  { [ "$__vshelf_program" -nt "$__vshelf_data/connect/program" ] || [ "$__vshelf_program" -ot "$__vshelf_data/connect/program" ]; }; then
  __vshelf_renewed=1
  VSHELF_SHELL='@SHELL@' "$__vshelf_program" connect --look @SHELL@ >/dev/null 2>&1 || :
  # shellcheck source=/dev/null
  \. "$__vshelf_data/connect/shelf.@SHELL@"
  __vshelf_renewed=''
fi
