
__vshelf_prompt() {
  local vshelf_status=$?
  __vshelf_look
  # The completion system may be set up behind this file.
  if (( ! __vshelf_completes && $+functions[compdef] )); then
    __vshelf_completes=1
    compdef __vshelf_complete vshelf
  fi
  return $vshelf_status
}

typeset -gi __vshelf_completes=0
typeset -ga precmd_functions chpwd_functions
(( ${precmd_functions[(Ie)__vshelf_prompt]} )) || precmd_functions+=(__vshelf_prompt)
(( ${chpwd_functions[(Ie)__vshelf_prompt]} )) || chpwd_functions+=(__vshelf_prompt)

# Asks the program what can stand where the cursor is; its order stays.
__vshelf_complete() {
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
