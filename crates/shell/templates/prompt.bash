
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
