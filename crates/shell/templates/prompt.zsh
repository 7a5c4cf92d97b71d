
__vshelf_prompt() {
  local vshelf_status=$?
  __vshelf_look
  return $vshelf_status
}

typeset -ga precmd_functions chpwd_functions
(( ${precmd_functions[(Ie)__vshelf_prompt]} )) || precmd_functions+=(__vshelf_prompt)
(( ${chpwd_functions[(Ie)__vshelf_prompt]} )) || chpwd_functions+=(__vshelf_prompt)
