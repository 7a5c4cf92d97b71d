
# Asks the program what can stand where the cursor is; its order stays.
__vshelf_suggest() {
  local -a found shown
  local line
  for line in "${(@f)$("$__vshelf_program" suggest -- "${(@)words[2,CURRENT]}" 2>/dev/null)}"; do
    [[ -n $line ]] || continue
    found+=("${line%%$'\t'*}")
    shown+=("${(r:24:)line%%$'\t'*} ${line#*$'\t'}")
  done
  if (( $#found )); then
    compadd -V vshelf -l -d shown -a found
  else
    _files
  fi
}
