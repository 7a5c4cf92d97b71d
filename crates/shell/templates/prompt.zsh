
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

__vshelf_complete() {
  __vshelf_need && __vshelf_suggest
}
