# Vivid Shelf for fish. `vshelf connect` writes this file; what is changed here is lost.

set -g __vshelf_data @DATA@
set -g __vshelf_program @PROGRAM@
set -g __vshelf_stamps @STAMPS@
# Set by the file of functions, which is read when one is needed.
set -q __vshelf_loaded; or set -g __vshelf_loaded
# The folder that was looked at last, its requirement files, and what they resulted in.
set -g __vshelf_here ''
set -g __vshelf_watched
set -g __vshelf_named
set -g __vshelf_followed
set -g __vshelf_told

# Reads the functions that not every shell needs.
function __vshelf_need
    if not set -q __vshelf_loaded[1]
        test -r $__vshelf_data/connect/functions.fish; or return 1
        source $__vshelf_data/connect/functions.fish
    end
end

# Follows what the project here requires. Where nothing is required, that is found out at once.
function __vshelf_look
    # Another shell can have changed a default.
    if not __vshelf_is_current
        __vshelf_load
        __vshelf_need; and __vshelf_name_all
    end
    set -q __vshelf_requirements[1]; or return 0
    if test "$PWD" = "$__vshelf_here"
        if not set -q __vshelf_watched[1]; and test -z "$__vshelf_named"; and not __vshelf_has_requirement $PWD
            return 0
        end
    else if not set -q __vshelf_followed[1]
        set -l at $PWD
        set -l empty
        while not __vshelf_has_requirement $at
            set -a empty $at
            # Sets the variable of the group, and needs no substitution.
            string match -rq -- '(?s)^(?<at>.*)/' $at
            # Folders above one without requirement files were looked at with it.
            if contains -- "$at" $__vshelf_empty
                set -a empty $__vshelf_empty[(contains -i -- "$at" $__vshelf_empty)..]
            else if test -n "$empty[-1]"
                continue
            end
            set __vshelf_here $PWD
            set __vshelf_empty $empty
            set __vshelf_watched
            set __vshelf_named
            return 0
        end
    end
    set __vshelf_empty
    __vshelf_need; and __vshelf_look_closely
end

function __vshelf_prompt --on-variable PWD --on-event fish_prompt
    set -l before $status
    __vshelf_look
    return $before
end

# Runs the program, and lets it change this shell.
function vshelf
    __vshelf_need
    or begin
        printf '%s\n' "vshelf: $__vshelf_data/connect is not whole; run: $__vshelf_program connect" >&2
        return 127
    end
    __vshelf_call $argv
end

# Reads which runtimes there are and which files require them.
function __vshelf_load
    set -g __vshelf_requirements
    set -g __vshelf_mains
    set -g __vshelf_says ''
    # The last folder found without requirement files, and those above it.
    set -g __vshelf_empty
    if test -r $__vshelf_data/connect/runtimes.fish
        source $__vshelf_data/connect/runtimes.fish
    end
end

function __vshelf_has_requirement
    return 1
end
function __vshelf_is_current
end
function __vshelf_name_all
end
function __vshelf_enter_all
end
__vshelf_load
__vshelf_enter_all
__vshelf_look

# The program was replaced where its time is another than that of the one that wrote this file. It then writes
# the file anew, whatever it is asked. What was only printed is in no file.
if test $__vshelf_program -nt $__vshelf_data/connect/program; or test $__vshelf_program -ot $__vshelf_data/connect/program
    if test -x $__vshelf_program; and test -r $__vshelf_data/connect/shelf.fish; and not set -q __vshelf_renewed
        set -g __vshelf_renewed
        VSHELF_SHELL=fish $__vshelf_program connect --look fish >/dev/null 2>&1
        # The functions that were read may be those of the program before.
        set -g __vshelf_loaded
        source $__vshelf_data/connect/shelf.fish
        set -e __vshelf_renewed
    end
end

complete -c vshelf -f -k -a '(__vshelf_need; and __vshelf_complete)'
complete -c vshelf -n '__fish_seen_subcommand_from adopt' -F
