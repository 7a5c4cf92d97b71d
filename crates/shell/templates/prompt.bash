
__vshelf_prompt() {
  local status=$?
  __vshelf_look
  return "$status"
}

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
