
# Asks the program what can stand where the cursor is. Bash cuts words at @ too, so the answer is cut
# where the word was.
__vshelf_suggest() {
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
