
__vshelf_prompt() {
  local status=$?
  __vshelf_look
  return "$status"
}

# What stands behind a change of folder in the same line finds what the project there requires. A
# function of the person's own that does more than that stays; the prompt follows it.
__vshelf_move() {
  local status=0
  builtin "$@" || status=$?
  __vshelf_look || :
  return "$status"
}
__vshelf_wrap() {
  while [[ $# -gt 0 ]]; do
    if [[ "${__vshelf_moves-}" == *" $1 "* ]] || ! declare -F "$1" >/dev/null; then
      builtin eval "function $1 { __vshelf_move $1 \"\$@\"; }"
      __vshelf_moves="${__vshelf_moves-} $1 "
    fi
    shift
  done
}
__vshelf_wrap cd pushd popd

# Other hooks stay in place; in a list (since bash 5.1) this changes the first entry.
if [[ "${PROMPT_COMMAND[*]-}" != *__vshelf_prompt* ]]; then
  # shellcheck disable=SC2178,SC2128
  PROMPT_COMMAND="__vshelf_prompt${PROMPT_COMMAND:+; $PROMPT_COMMAND}"
fi

__vshelf_complete() {
  __vshelf_need && __vshelf_suggest "$2"
}
# Newest first stays so where bash can leave the order alone (4.4 and later).
builtin complete -o default -o nosort -F __vshelf_complete vshelf 2>/dev/null ||
  builtin complete -o default -F __vshelf_complete vshelf
