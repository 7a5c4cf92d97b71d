
# Asks the program what can stand where the cursor is. Bash cuts words at @, : and = too, and replaces
# only the last piece, which is $1: candidates lose what stands in front of it.
__vshelf_suggest() {
  local line typed candidate in_front
  local -a words
  line=${COMP_LINE:0:COMP_POINT}
  builtin read -ra words <<<"$line"
  typed=''
  [[ $line == *[[:space:]] ]] && words+=('') || typed=${words[${#words[@]} - 1]}
  in_front=${typed%"$1"}
  COMPREPLY=()
  while IFS= builtin read -r line; do
    candidate=${line%%$'\t'*}
    # What is inserted is read by the shell like anything that is typed.
    builtin printf -v candidate %q "${candidate#"$in_front"}"
    COMPREPLY+=("$candidate")
  done < <("$__vshelf_program" suggest -- "${words[@]:1}" 2>/dev/null)
}
