# Vivid Shelf for @SHELL@: what the file beside this one reads when it is needed.
# shellcheck shell=@CHECKED_AS@ disable=SC2154,SC2034

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

# __vshelf_choose RUNTIME: sets __vshelf_value to what this shell was switched to, or else what it follows. A switch
# to an install that is gone does not count.
__vshelf_choose() {
  __vshelf_word "$1" "${VSHELF_SWITCHED-}"
  case $__vshelf_value in
    system) return 0 ;;
    ?*) if [ -d "$__vshelf_data/shelf/$1/$__vshelf_value" ]; then return 0; fi ;;
  esac
  __vshelf_word "$1" "$__vshelf_followed"
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

# __vshelf_show RUNTIME KEY: sets __vshelf_shown to the selector of KEY, which names the publisher unless it is
# the main one: 8.3.1 for saltmarsh-8.3.1, dunefield/8.3.1 for dunefield-8.3.1.
__vshelf_show() {
  __vshelf_word "$1" "$__vshelf_mains"
  case $2 in
    "$__vshelf_value"-[0-9]*) __vshelf_shown=${2#"$__vshelf_value"-} ;;
    *-[0-9]*)
      __vshelf_shown=${2%%-[0-9]*}
      __vshelf_shown=$__vshelf_shown/${2#"$__vshelf_shown-"}
      ;;
    *) __vshelf_shown=$2 ;;
  esac
}

# __vshelf_name_active RUNTIME DEFAULT: adds to VSHELF_ACTIVE what is active of it, for prompts to show.
__vshelf_name_active() {
  __vshelf_choose "$1"
  case $__vshelf_value in
    '' | '?') __vshelf_shown=$2 ;;
    *) __vshelf_show "$1" "$__vshelf_value" ;;
  esac
  if [ -n "$__vshelf_shown" ]; then
    VSHELF_ACTIVE="$VSHELF_ACTIVE${VSHELF_ACTIVE:+, }$1 $__vshelf_shown"
  fi
}

# Sets __vshelf_names to the requirement files in the folder $1.
__vshelf_look_in() {
  __vshelf_names=''
  __vshelf_has_requirement "${1%/}" || return 0
  __vshelf_rest=$__vshelf_requirements
  while [ -n "$__vshelf_rest" ]; do
    __vshelf_name=${__vshelf_rest%%"$__vshelf_newline"*}
    __vshelf_rest=${__vshelf_rest#*"$__vshelf_newline"}
    if [ -f "${1%/}/$__vshelf_name" ]; then
      __vshelf_names=$__vshelf_names$__vshelf_name$__vshelf_newline
    fi
  done
}

# Whether the requirement file $1 is not as it was when its stamp $2 was made: the stamp has its time.
# Every shell of today compares times, which POSIX only promises since 2024.
# shellcheck disable=SC3013
__vshelf_is_other() {
  [ ! -e "$2" ] || [ ! -e "$1" ] || [ "$1" -nt "$2" ] || [ "$1" -ot "$2" ]
}

# Walks upward from this folder, and sets __vshelf_found to what there is: the requirement files of each
# folder, with a sign for each whether it is as its stamp says. Of the folders that have such files the
# nearest ten count. With $1 it takes what the stamps say, too.
__vshelf_walk() {
  __vshelf_found=''
  __vshelf_folders=0
  __vshelf_at=$PWD
  while :; do
    __vshelf_look_in "$__vshelf_at"
    __vshelf_found=$__vshelf_found/$__vshelf_names
    if [ -n "$__vshelf_names" ]; then __vshelf_folders=$((__vshelf_folders + 1)); fi
    while [ -n "$__vshelf_names" ]; do
      __vshelf_file=${__vshelf_at%/}/${__vshelf_names%%"$__vshelf_newline"*}
      __vshelf_names=${__vshelf_names#*"$__vshelf_newline"}
      if __vshelf_is_other "$__vshelf_file" "$__vshelf_stamps$__vshelf_file"; then
        __vshelf_found="$__vshelf_found!"
        __vshelf_ask=1
      else
        __vshelf_found=$__vshelf_found=
        if [ -n "$1" ]; then __vshelf_take "$__vshelf_stamps$__vshelf_file"; fi
      fi
    done
    case $__vshelf_folders$__vshelf_at in
      10* | [0-9] | [0-9]/) break ;;
      [0-9]/*/*) __vshelf_at=${__vshelf_at%/*} ;;
      *) __vshelf_at=/ ;;
    esac
  done
  if [ "$__vshelf_folders" = 0 ]; then __vshelf_found=''; fi
}

# Adds to __vshelf_words what the stamp $1 says; sets __vshelf_ask where it has to be renewed.
__vshelf_take() {
  IFS='' \read -r __vshelf_line <"$1" || {
    __vshelf_ask=1
    return 0
  }
  case $__vshelf_line in
    'again '*)
      __vshelf_ask=1
      __vshelf_line=${__vshelf_line#again }
      ;;
  esac
  # The nearest file that requires something of a runtime decides.
  while [ -n "$__vshelf_line" ]; do
    __vshelf_pair=${__vshelf_line%% *}
    __vshelf_line=${__vshelf_line#"$__vshelf_pair"}
    __vshelf_line=${__vshelf_line# }
    __vshelf_word "${__vshelf_pair%%=*}" "$__vshelf_words"
    if [ -z "$__vshelf_value" ]; then
      __vshelf_words="$__vshelf_words${__vshelf_words:+ }$__vshelf_pair"
    fi
  done
}

# Reads all stamps: sets __vshelf_words to what they say, nearest first, and __vshelf_ask where one is
# missing or has to be renewed.
__vshelf_read_stamps() {
  __vshelf_words=''
  __vshelf_ask=''
  __vshelf_walk take
  __vshelf_named=$__vshelf_found
}

# Whether all is as it was when this folder was looked at.
__vshelf_is_same() {
  [ "$PWD" = "$__vshelf_here" ] || return 1
  __vshelf_walk ''
  [ "$__vshelf_found" = "$__vshelf_named" ]
}

# Takes the first pair off __vshelf_left: sets __vshelf_name and __vshelf_key.
__vshelf_next_pair() {
  __vshelf_pair=${__vshelf_left%% *}
  __vshelf_left=${__vshelf_left#"$__vshelf_pair"}
  __vshelf_left=${__vshelf_left# }
  __vshelf_name=${__vshelf_pair%%=*}
  __vshelf_key=${__vshelf_pair#*=}
}

# Says what the words $1 require that the words $2 did not, and what they no longer do.
__vshelf_announce() {
  __vshelf_left=$1
  while [ -n "$__vshelf_left" ]; do
    __vshelf_next_pair
    __vshelf_word "$__vshelf_name" "$2"
    if [ "$__vshelf_value" = "$__vshelf_key" ] || [ "$__vshelf_key" = '?' ]; then continue; fi
    __vshelf_word "$__vshelf_name" "${VSHELF_SWITCHED-}"
    if [ "$__vshelf_value" = "$__vshelf_key" ]; then continue; fi
    __vshelf_show "$__vshelf_name" "$__vshelf_value"
    __vshelf_stays=$__vshelf_shown
    __vshelf_show "$__vshelf_name" "$__vshelf_key"
    # A switch takes precedence over what the project requires.
    if [ -n "$__vshelf_stays" ]; then
      command printf 'vshelf: %s %s is required here; this shell stays switched to %s\n' \
        "$__vshelf_name" "$__vshelf_shown" "$__vshelf_stays" >&2
    else
      command printf 'vshelf: %s %s here, as the project requires\n' "$__vshelf_name" "$__vshelf_shown" >&2
    fi
  done
  __vshelf_left=$2
  while [ -n "$__vshelf_left" ]; do
    __vshelf_next_pair
    __vshelf_word "$__vshelf_name" "$1 ${VSHELF_SWITCHED-}"
    if [ -z "$__vshelf_value" ] && [ "$__vshelf_key" != '?' ]; then
      command printf 'vshelf: %s follows the default again\n' "$__vshelf_name" >&2
    fi
  done
}

# Only builtins, unless what the project here requires changed.
__vshelf_look_closely() {
  if __vshelf_is_same; then return 0; fi
  __vshelf_here=$PWD
  __vshelf_read_stamps
  __vshelf_notices=''
  if [ -n "$__vshelf_ask" ] && [ -x "$__vshelf_program" ]; then
    __vshelf_text=$("$__vshelf_program" connect --look @SHELL@) || __vshelf_text=''
    __vshelf_read_stamps
    __vshelf_words=${__vshelf_text%%"$__vshelf_newline"*}
    case $__vshelf_text in
      *"$__vshelf_newline"*) __vshelf_notices=${__vshelf_text#*"$__vshelf_newline"} ;;
    esac
  fi
  # Told when the project is entered, and not in each of its folders.
  if [ -n "$__vshelf_notices" ] && [ "$__vshelf_notices" != "$__vshelf_told" ]; then
    command printf '%s\n' "$__vshelf_notices" >&2
  fi
  __vshelf_told=$__vshelf_notices
  if [ "$__vshelf_words" != "$__vshelf_followed" ]; then
    __vshelf_before=$__vshelf_followed
    __vshelf_followed=$__vshelf_words
    __vshelf_enter_all
    case $-$__vshelf_says in
      *i*announce)
        __vshelf_announce "$__vshelf_followed" "$__vshelf_before"
        ;;
    esac
  fi
}

# Runs the program and evaluates what it changes in this shell (it writes that to descriptor 3).
__vshelf_call() {
  @EMULATE@
  __vshelf_run=$__vshelf_program
  __vshelf_status=0
  if [ ! -x "$__vshelf_run" ]; then
    __vshelf_run=$(\unset -f vshelf && command -v vshelf) || {
      command printf '%s\n' \
        "vshelf: the program is gone from $__vshelf_program; install it again and run: vshelf connect" >&2
      return 127
    }
  fi
  case ${1-} in
    switch | default | install | remove | adopt | tidy | renew | restore | browse | -*)
      {
        __vshelf_text=$(VSHELF_SHELL='@SHELL@' VSHELF_SHELL_ID=$$ VSHELF_EVALUATE=3 "$__vshelf_run" "$@" 3>&1 1>&4 4>&-) ||
          __vshelf_status=$?
      } 4>&1
      if [ -n "$__vshelf_text" ]; then \eval "$__vshelf_text"; fi
      ;;
    *) VSHELF_SHELL='@SHELL@' VSHELF_SHELL_ID=$$ "$__vshelf_run" "$@" || __vshelf_status=$? ;;
  esac
  # What is known of runtimes, and what the project requires, may be other than before.
  __vshelf_load
  __vshelf_name_all
  __vshelf_look
  return "$__vshelf_status"
}

__vshelf_loaded=1
