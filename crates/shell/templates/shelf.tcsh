# Vivid Shelf for tcsh. `vshelf connect` writes this file; what is changed here is lost.

set __vshelf_data = @DATA@
set __vshelf_program = @PROGRAM@
set __vshelf_stamps = @STAMPS@
# What was looked at last, what it resulted in, and what was told; what was looked at before, and what
# each resulted in; how the program ended last. A statement costs this shell more than what it does.
set __vshelf_signature = '' __vshelf_followed = () __vshelf_told = () __vshelf_result = 0
set __vshelf_seen = () __vshelf_answers = () __vshelf_runtimes = () __vshelf_requirements = () __vshelf_mains = ()

# This shell has no functions; what would be one is a part of the file beside this one.
alias __vshelf_part 'source $__vshelf_data:q/connect/functions.tcsh \!*'
alias __vshelf_look '__vshelf_part look'
alias __vshelf_prompt 'set __vshelf_status = $status; __vshelf_look; set status = $__vshelf_status'
alias vshelf '__vshelf_part call \!*'

# What else runs before a prompt stays. To ask what it is takes a process, and whether it is none.
if ( $?prompt && ! $?__vshelf_prompts ) then
  set __vshelf_prompts
  which precmd >& /dev/null
  if ( $status ) then
    alias precmd __vshelf_prompt
  else
    set __vshelf_others = "`alias precmd`"
    alias precmd "__vshelf_prompt; $__vshelf_others"
  endif
endif

if ( -r $__vshelf_data:q/connect/functions.tcsh ) then
  # The list of runtimes enters by itself what most new shells have; the rest is for the parts.
  set __vshelf_enters = 1
  if ( -r $__vshelf_data:q/connect/runtimes.tcsh ) source $__vshelf_data:q/connect/runtimes.tcsh
  if ( $__vshelf_enters ) source $__vshelf_data:q/connect/functions.tcsh enter
  __vshelf_look
endif
