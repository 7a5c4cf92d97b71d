
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
{
  if [[ "${__vshelf_moves-}" == *" cd "* ]] || ! declare -F cd; then
    function cd { __vshelf_move cd "$@"; }
    __vshelf_moves="${__vshelf_moves-} cd "
  fi
  if [[ "${__vshelf_moves-}" == *" pushd "* ]] || ! declare -F pushd; then
    function pushd { __vshelf_move pushd "$@"; }
    __vshelf_moves="${__vshelf_moves-} pushd "
  fi
  if [[ "${__vshelf_moves-}" == *" popd "* ]] || ! declare -F popd; then
    function popd { __vshelf_move popd "$@"; }
    __vshelf_moves="${__vshelf_moves-} popd "
  fi
} >/dev/null

# Other hooks stay in place; in a list (since bash 5.1) this changes the first entry.
if [[ "${PROMPT_COMMAND[*]-}" != *__vshelf_prompt* ]]; then
  # shellcheck disable=SC2178,SC2128
  PROMPT_COMMAND="__vshelf_prompt${PROMPT_COMMAND:+; $PROMPT_COMMAND}"
fi

__vshelf_complete() {
  __vshelf_need && __vshelf_suggest "$2"
}
# Newest first stays so where bash can leave the order alone.
case $BASH_VERSION in
  [1-3].* | 4.[0-3].*) builtin complete -o default -F __vshelf_complete vshelf ;;
  *) builtin complete -o default -o nosort -F __vshelf_complete vshelf ;;
esac
