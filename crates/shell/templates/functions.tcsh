# Vivid Shelf for tcsh: the parts that the file beside this one runs, as its first word says.

if ( $1 == enter ) then
  # Puts the folders of what is active in front of PATH: the version this shell (or the one that
  # started it) was switched to, or else what the project here requires, or else the default.
  set __vshelf_requirements = ()
  set __vshelf_says = ''
  set __vshelf_runtimes = ()
  set __vshelf_enters = 0
  if ( -r $__vshelf_data:q/connect/runtimes.tcsh ) source $__vshelf_data:q/connect/runtimes.tcsh
  set __vshelf_words = ()
  if ( $?VSHELF_SWITCHED ) then
    # A switch to an install that is gone does not count.
    foreach __vshelf_word ($VSHELF_SWITCHED:x)
      set __vshelf_parts = ($__vshelf_word:s/=/ /:x)
      if ( $#__vshelf_parts == 2 && ( $__vshelf_word:q =~ *=system || -d $__vshelf_data:q/shelf/$__vshelf_word:s,=,/,:q ) ) then
        set __vshelf_words = ($__vshelf_words:q $__vshelf_word:q)
      endif
    end
  endif
  set __vshelf_words = ($__vshelf_words:q $__vshelf_followed:q)
  set __vshelf_active = ''
  set __vshelf_at = 1
  while ( $__vshelf_at <= $#__vshelf_runtimes )
    set __vshelf_name = $__vshelf_runtimes[$__vshelf_at]:q
    set __vshelf_key = ''
    foreach __vshelf_word ($__vshelf_words:q)
      set __vshelf_parts = ($__vshelf_word:s/=/ /:x)
      if ( $#__vshelf_parts == 2 && $__vshelf_parts[1]:q == $__vshelf_name:q && $__vshelf_key:q == '' ) then
        set __vshelf_key = $__vshelf_parts[2]:q
      endif
    end
    set __vshelf_named = $__vshelf_key:q
    switch ( $__vshelf_key:q )
    case '':
    case '[?]':
      set __vshelf_base = $__vshelf_data:q/default/$__vshelf_name:q
      set __vshelf_named = $__vshelf_shown[$__vshelf_at]:q
      breaksw
    case system:
      set __vshelf_base = ''
      breaksw
    default:
      set __vshelf_base = $__vshelf_data:q/shelf/$__vshelf_name:q/$__vshelf_key:q/build
      __vshelf_part show
      breaksw
    endsw
    if ( $__vshelf_named:q != '' ) then
      if ( $__vshelf_active:q != '' ) set __vshelf_active = "$__vshelf_active, "
      set __vshelf_active = "$__vshelf_active$__vshelf_name $__vshelf_named"
    endif
    set __vshelf_entries = ()
    if ( $__vshelf_base:q != '' ) then
      set __vshelf_number = 1
      while ( $__vshelf_number <= $#__vshelf_folders )
        if ( $__vshelf_folders_of[$__vshelf_number]:q == $__vshelf_name:q ) then
          set __vshelf_entries = ($__vshelf_entries:q $__vshelf_base:q/$__vshelf_folders[$__vshelf_number]:q)
        endif
        @ __vshelf_number++
      end
    endif
    foreach __vshelf_entry ($path:q)
      if ( $__vshelf_entry:q/ !~ $__vshelf_installs[$__vshelf_at]:q && $__vshelf_entry:q/ !~ $__vshelf_defaults[$__vshelf_at]:q ) then
        set __vshelf_entries = ($__vshelf_entries:q $__vshelf_entry:q)
      endif
    end
    set path = ($__vshelf_entries:q)
    set __vshelf_variable = $__vshelf_variables[$__vshelf_at]:q
    if ( $__vshelf_variable:q != '' ) then
      if ( $__vshelf_base:q != '' && -d $__vshelf_base:q ) then
        setenv $__vshelf_variable $__vshelf_base:q
      else
        # What stands behind a condition is filled in whether or not that holds.
        set __vshelf_reading = 'set __vshelf_value = $'$__vshelf_variable:q':q'
        eval 'if ( $?'$__vshelf_variable:q' ) eval $__vshelf_reading:q'
        if ( $?__vshelf_value ) then
          if ( $__vshelf_value:q/ =~ $__vshelf_installs[$__vshelf_at]:q || $__vshelf_value:q/ =~ $__vshelf_defaults[$__vshelf_at]:q ) unsetenv $__vshelf_variable
          unset __vshelf_value
        endif
      endif
    endif
    @ __vshelf_at++
  end
  # For prompts to show.
  setenv VSHELF_ACTIVE $__vshelf_active:q
else if ( $1 == show ) then
  # Sets __vshelf_named to the selector of $__vshelf_key, which names the publisher unless it is the main one of
  # $__vshelf_name: 8.3.1 for saltmarsh-8.3.1, dunefield/8.3.1 for dunefield-8.3.1.
  set __vshelf_named = ''
  set __vshelf_joint = ''
  set __vshelf_found = 0
  foreach __vshelf_piece ($__vshelf_key:as/-/ /:x)
    if ( ! $__vshelf_found && $__vshelf_piece:q =~ [0-9]* ) then
      set __vshelf_found = 1
      set __vshelf_joint = /
      foreach __vshelf_main ($__vshelf_mains:q)
        if ( $__vshelf_main:q == $__vshelf_name:q=$__vshelf_named:q ) then
          set __vshelf_joint = ''
          set __vshelf_named = ''
        endif
      end
    endif
    set __vshelf_named = $__vshelf_named:q$__vshelf_joint:q$__vshelf_piece:q
    set __vshelf_joint = -
  end
else if ( $1 == look && $#__vshelf_requirements ) then
  # Follows what the project here requires. The program runs only where this shell does not know it.
  set __vshelf_round = 1
  while ( $__vshelf_round )
    # Where this is, the requirement files from here upward, and their times and those of their stamps.
    set __vshelf_now = $cwd:q
    set __vshelf_files = 0
    set __vshelf_having = 0
    set __vshelf_folder = $cwd:q
    while ( 1 )
      if ( $__vshelf_folder:q =~ [/] ) set __vshelf_folder = ''
      set __vshelf_number = $__vshelf_files
      foreach __vshelf_requirement ($__vshelf_requirements:q)
        set __vshelf_file = $__vshelf_folder:q/$__vshelf_requirement:q
        if ( -f $__vshelf_file:q ) then
          set __vshelf_stamp = $__vshelf_stamps:q$__vshelf_file:q
          @ __vshelf_time = ( -M $__vshelf_file:q )
          @ __vshelf_made = ( -M $__vshelf_stamp:q )
          set __vshelf_now = $__vshelf_now:q//$__vshelf_file:q//$__vshelf_time//$__vshelf_made
          @ __vshelf_files++
        endif
      end
      # Of the folders that have such files the nearest ten count.
      if ( $__vshelf_files > $__vshelf_number ) @ __vshelf_having++
      if ( $__vshelf_folder:q == '' || $__vshelf_having == 10 ) break
      set __vshelf_folder = $__vshelf_folder:h:q
      if ( $__vshelf_folder:q == '' ) set __vshelf_folder = /
    end
    if ( $__vshelf_files ) set __vshelf_empty = ''
    if ( $__vshelf_round == 2 ) then
      set __vshelf_seen = ($__vshelf_seen:q $__vshelf_now:q)
      set __vshelf_answers = ($__vshelf_answers:q $__vshelf_answer:q)
      set __vshelf_round = 0
    else if ( $__vshelf_now:q == $__vshelf_signature:q ) then
      set __vshelf_round = 0
    else
      set __vshelf_answer = ''
      set __vshelf_notices = ()
      set __vshelf_round = $__vshelf_files
      set __vshelf_number = 1
      foreach __vshelf_before ($__vshelf_seen:q)
        # What is missing is told each time that the project is entered.
        if ( $__vshelf_before:q == $__vshelf_now:q && $__vshelf_answers[$__vshelf_number]:q !~ '*=[?]*' ) then
          set __vshelf_answer = $__vshelf_answers[$__vshelf_number]:q
          set __vshelf_round = 0
        endif
        @ __vshelf_number++
      end
      if ( $__vshelf_round && -x $__vshelf_program:q ) then
        set __vshelf_lines = ("`$__vshelf_program:q connect --look tcsh`")
        if ( $#__vshelf_lines ) set __vshelf_answer = $__vshelf_lines[1]:q
        if ( $#__vshelf_lines > 1 ) set __vshelf_notices = ($__vshelf_lines[2-]:q)
        # Told when the project is entered, and not in each of its folders.
        if ( $#__vshelf_notices && "$__vshelf_notices" != "$__vshelf_told" ) then
          foreach __vshelf_line ($__vshelf_lines[2-]:q)
            # This shell has no redirection of what it says itself to the standard error.
            printf '%s\n' $__vshelf_line:q >>! /dev/stderr
          end
        endif
        # The stamps have other times now.
        set __vshelf_round = 2
      else
        set __vshelf_round = 0
      endif
    endif
  end
  if ( $__vshelf_now:q != $__vshelf_signature:q ) then
    set __vshelf_signature = $__vshelf_now:q
    set __vshelf_told = ($__vshelf_notices:q)
    set __vshelf_before = ($__vshelf_followed:q)
    set __vshelf_followed = ($__vshelf_answer:x)
    if ( "$__vshelf_followed" != "$__vshelf_before" ) then
      __vshelf_part enter
      if ( $?prompt && "$__vshelf_says" == announce ) then
        foreach __vshelf_word ($__vshelf_followed:q)
          set __vshelf_parts = ($__vshelf_word:s/=/ /:x)
          set __vshelf_known = 0
          if ( $#__vshelf_parts != 2 ) set __vshelf_known = 1
          if ( $__vshelf_word:q =~ '*=[?]' ) set __vshelf_known = 1
          foreach __vshelf_other ($__vshelf_before:q)
            if ( $__vshelf_other:q == $__vshelf_word:q ) set __vshelf_known = 1
          end
          # A switch takes precedence over what the project requires.
          set __vshelf_stays = ()
          if ( $?VSHELF_SWITCHED ) then
            foreach __vshelf_other ($VSHELF_SWITCHED:x)
              set __vshelf_other = ($__vshelf_other:s/=/ /:x)
              if ( $__vshelf_other[1]:q == $__vshelf_parts[1]:q ) set __vshelf_stays = ($__vshelf_other[2]:q)
            end
          endif
          if ( $#__vshelf_stays ) then
            if ( "$__vshelf_stays" == $__vshelf_parts[2]:q ) set __vshelf_known = 1
          endif
          if ( ! $__vshelf_known ) then
            set __vshelf_name = $__vshelf_parts[1]:q
            set __vshelf_key = $__vshelf_parts[2]:q
            __vshelf_part show
            set __vshelf_required = $__vshelf_named:q
            if ( $#__vshelf_stays ) then
              set __vshelf_key = $__vshelf_stays:q
              __vshelf_part show
              echo "vshelf: $__vshelf_name $__vshelf_required is required here; this shell stays switched to $__vshelf_named" >>! /dev/stderr
            else
              echo "vshelf: $__vshelf_name $__vshelf_required here, as the project requires" >>! /dev/stderr
            endif
          endif
        end
        foreach __vshelf_word ($__vshelf_before:q)
          set __vshelf_parts = ($__vshelf_word:s/=/ /:x)
          set __vshelf_known = 0
          if ( $__vshelf_word:q =~ '*=[?]' ) set __vshelf_known = 1
          set __vshelf_others = ($__vshelf_followed:q)
          if ( $?VSHELF_SWITCHED ) then
            set __vshelf_others = ($__vshelf_followed:q $VSHELF_SWITCHED:x)
          endif
          foreach __vshelf_other ($__vshelf_others:q)
            if ( $__vshelf_other:s/=/ /:q =~ $__vshelf_parts[1]:q' *' ) set __vshelf_known = 1
          end
          if ( ! $__vshelf_known ) echo "vshelf: $__vshelf_parts[1] follows the default again" >>! /dev/stderr
        end
      endif
    endif
  endif
else if ( $1 == call ) then
  # Runs the program, and evaluates what it changes in this shell: it writes that to a file.
  set __vshelf_result = 0
  set __vshelf_run = $__vshelf_program:q
  if ( ! -x $__vshelf_run:q ) then
    set __vshelf_run = ''
    foreach __vshelf_folder ($path:q)
      if ( $__vshelf_run:q == '' && -x $__vshelf_folder:q/vshelf ) set __vshelf_run = $__vshelf_folder:q/vshelf
    end
  endif
  if ( $__vshelf_run:q == '' ) then
    printf 'vshelf: the program is gone from %s; install it again and run: vshelf connect\n' $__vshelf_program:q >>! /dev/stderr
    set __vshelf_result = 127
  else
    set __vshelf_changes = "`mktemp`"
    env VSHELF_SHELL=tcsh VSHELF_SHELL_ID=$$ VSHELF_EVALUATE=$__vshelf_changes:q $__vshelf_run:q $argv[2-]:q
    set __vshelf_result = $status
    if ( ! -z $__vshelf_changes:q ) source $__vshelf_changes:q
    rm -f -- $__vshelf_changes:q
    # What is known of runtimes, and what the project requires, may be other than before.
    __vshelf_part enter
    set __vshelf_signature = ''
    __vshelf_look
  endif
endif
if ( $1 == call ) set status = $__vshelf_result
