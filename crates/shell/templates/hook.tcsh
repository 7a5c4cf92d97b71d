# Vivid Shelf for tcsh. `vshelf setup` writes this file; what is changed here is lost.

set __vshelf_data = @DATA@
set __vshelf_program = @PROGRAM@
set __vshelf_stamps = @STAMPS@
# What was looked at last, and what it came to.
set __vshelf_signature = ''
set __vshelf_followed = ()
set __vshelf_told = ()
# What was looked at before, and what each came to.
set __vshelf_seen = ()
set __vshelf_answers = ()
# How the program ended last.
set __vshelf_result = 0

# This shell has no functions; what would be one is a part of the file beside this one.
alias __vshelf_part 'source $__vshelf_data:q/hooks/functions.tcsh \!*'
alias __vshelf_look '__vshelf_part look'
alias __vshelf_prompt 'set __vshelf_status = $status; __vshelf_look; set status = $__vshelf_status'
alias vshelf '__vshelf_part call \!*'

# What else runs before a prompt stays.
if ( $?prompt && ! $?__vshelf_prompts ) then
  set __vshelf_prompts
  set __vshelf_others = "`alias precmd`"
  if ( "$__vshelf_others" == '' ) then
    alias precmd __vshelf_prompt
  else
    alias precmd "__vshelf_prompt; $__vshelf_others"
  endif
endif

if ( -r $__vshelf_data:q/hooks/functions.tcsh ) then
  __vshelf_part enter
  __vshelf_look
endif
