
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

# Asks the program what can stand where the cursor is. Bash cuts words at @ too, so the answer is cut
# where the word was.
__vshelf_complete() {
  local line typed candidate
  local -a words
  line=${COMP_LINE:0:COMP_POINT}
  builtin read -ra words <<<"$line"
  typed=''
  [[ $line == *[[:space:]] ]] && words+=('') || typed=${words[${#words[@]} - 1]}
  COMPREPLY=()
  while IFS= builtin read -r line; do
    candidate=${line%%$'\t'*}
    [[ $typed == *@* && ${COMP_WORDBREAKS-} == *@* ]] && candidate=${candidate#"${typed%"${typed##*@}"}"}
    COMPREPLY+=("$candidate")
  done < <("$__vshelf_program" suggest -- "${words[@]:1}" 2>/dev/null)
}
# Newest first stays so where bash can leave the order alone (4.4 and later).
builtin complete -o default -o nosort -F __vshelf_complete vshelf 2>/dev/null ||
  builtin complete -o default -F __vshelf_complete vshelf
