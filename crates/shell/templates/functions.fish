# Vivid Shelf for fish: what the file beside this one reads when it is needed.

# Prints the requirement files in a folder.
function __vshelf_look_in
    set -l folder $argv[1]
    test $folder = /; and set folder ''
    for name in $__vshelf_requirements
        if test -f $folder/$name
            echo -- $name
        end
    end
end

# The stamp of a requirement file.
function __vshelf_stamp
    echo -- $__vshelf_stamps$argv[1]
end

# Whether a requirement file is not as it was when its stamp was made: the stamp has its time.
function __vshelf_is_other
    set -l stamp (__vshelf_stamp $argv[1] | string collect)
    set -l times (path mtime -- $argv[1] $stamp 2>/dev/null)
    test (count $times) != 2; or test $times[1] != $times[2]
end

# Whether all is as it was when this folder was looked at.
function __vshelf_is_same
    test "$PWD" = "$__vshelf_here"; or return 1
    for file in $__vshelf_watched
        __vshelf_is_other $file; and return 1
    end
    test "$(__vshelf_look_in $PWD)" = "$__vshelf_named"
end

# Walks upward from this folder. Sets __vshelf_words to what the stamps of the requirement files say,
# nearest first, __vshelf_watched to the files, and __vshelf_ask where a stamp is missing or has to
# be renewed. Of the folders that have such files the nearest ten count.
function __vshelf_walk
    set -l folders 0
    set -g __vshelf_words
    set -g __vshelf_watched
    set -g __vshelf_ask
    set -g __vshelf_named "$(__vshelf_look_in $PWD)"
    set -l at $PWD
    while true
        set -l folder $at
        test $at = /; and set folder ''
        set -l names (__vshelf_look_in $at)
        set -q names[1]; and set folders (math $folders + 1)
        for name in $names
            set -l file $folder/$name
            if __vshelf_is_other $file
                set __vshelf_ask 1
                continue
            end
            set -l stamp (__vshelf_stamp $file | string collect)
            read -l line <$stamp
            set line (string split -n ' ' -- $line)
            if test "$line[1]" = again
                set __vshelf_ask 1
                set -e line[1]
            end
            # The nearest file that requires something of a runtime decides.
            for pair in $line
                set -l known (__vshelf_word (string split -m 1 -f 1 = -- $pair) $__vshelf_words)
                test -n "$known"; or set -a __vshelf_words $pair
            end
            set -a __vshelf_watched $file
        end
        test $at = /; or test $folders = 10; and break
        set at (path dirname -- $at | string collect)
    end
end

# __vshelf_show RUNTIME KEY: prints the selector of KEY, which names the publisher unless it is the main one:
# 8.3.1 for saltmarsh-8.3.1, dunefield/8.3.1 for dunefield-8.3.1.
function __vshelf_show
    set -l parts (string split -m 1 / -- (string replace -r -- '^(.*?)-(?=[0-9])' '$1/' $argv[2]))
    if set -q parts[2]; and test "$parts[1]" = "$(__vshelf_word $argv[1] $__vshelf_mains)"
        echo -- $parts[2]
    else
        string join / -- $parts
    end
end

# Only builtins, unless what the project here requires changed.
function __vshelf_look_closely
    __vshelf_is_same; and return 0
    set __vshelf_here $PWD
    __vshelf_walk
    set -l notices
    if test -n "$__vshelf_ask"; and test -x $__vshelf_program
        set -l answer ($__vshelf_program connect --look fish)
        __vshelf_walk
        set -g __vshelf_words (string split -n ' ' -- "$answer[1]")
        set -q answer[2]; and set notices $answer[2..]
    end
    # Told when the project is entered, and not in each of its folders.
    if set -q notices[1]; and test "$notices" != "$__vshelf_told"
        printf '%s\n' $notices >&2
    end
    set __vshelf_told $notices
    if test "$__vshelf_words" != "$__vshelf_followed"
        set -l before $__vshelf_followed
        set __vshelf_followed $__vshelf_words
        __vshelf_enter_all
        if status is-interactive; and test "$__vshelf_says" = announce
            set -l switched
            set -q VSHELF_SWITCHED; and set switched (string split ' ' -- $VSHELF_SWITCHED)
            for pair in $__vshelf_followed
                set -l parts (string split -m 1 = -- $pair)
                test "$(__vshelf_word $parts[1] $before)" = "$parts[2]"; and continue
                test "$parts[2]" = '?'; and continue
                # A switch takes precedence over what the project requires.
                set -l stays (__vshelf_word $parts[1] $switched)
                test "$stays" = "$parts[2]"; and continue
                if test -n "$stays"
                    printf 'vshelf: %s %s is required here; this shell stays switched to %s\n' $parts[1] (__vshelf_show $parts) (__vshelf_show $parts[1] $stays) >&2
                else
                    printf 'vshelf: %s %s here, as the project requires\n' $parts[1] (__vshelf_show $parts) >&2
                end
            end
            for pair in $before
                set -l parts (string split -m 1 = -- $pair)
                if test "$parts[2]" != '?'; and test -z "$(__vshelf_word $parts[1] $__vshelf_followed $switched)"
                    printf 'vshelf: %s follows the default again\n' $parts[1] >&2
                end
            end
        end
    end
    return 0
end

# Runs the program and evaluates what it changes in this shell (it writes that to a file).
function __vshelf_call
    set -l program $__vshelf_program
    if not test -x $program
        set program (command -s vshelf)
        or begin
            printf '%s\n' "vshelf: the program is gone from $__vshelf_program; install it again and run: vshelf connect" >&2
            return 127
        end
    end
    set -l result 0
    switch "$argv[1]"
        case switch default install remove adopt tidy renew restore browse '-*'
            set -l changes (command mktemp)
            VSHELF_SHELL=fish VSHELF_SHELL_ID=$fish_pid VSHELF_EVALUATE=3 $program $argv 3>$changes
            set result $status
            if test -s $changes
                source $changes
            end
            command rm -f -- $changes
        case '*'
            VSHELF_SHELL=fish VSHELF_SHELL_ID=$fish_pid $program $argv
            set result $status
    end
    # What is known of runtimes, and what the project requires, may be other than before.
    __vshelf_load
    __vshelf_name_all
    __vshelf_look
    return $result
end

# __vshelf_word RUNTIME PAIR...: prints what RUNTIME= has among the pairs.
function __vshelf_word
    for pair in $argv[2..]
        set -l parts (string split -m 1 = -- $pair)
        if test "$parts[1]" = $argv[1]
            echo -- $parts[2]
            return
        end
    end
end

# __vshelf_chosen RUNTIME: prints what this shell was switched to, or else what it follows. A switch to an install that
# is gone does not count.
function __vshelf_chosen
    set -l key
    set -q VSHELF_SWITCHED; and set key (__vshelf_word $argv[1] (string split ' ' -- $VSHELF_SWITCHED))
    if test "$key" = system; or test -n "$key" -a -d "$__vshelf_data/shelf/$argv[1]/$key"
        echo -- $key
    else
        __vshelf_word $argv[1] $__vshelf_followed
    end
end

# __vshelf_enter RUNTIME HOME_VARIABLE FOLDER...
# Puts the folders of what is active in front of PATH: the version this shell (or the one that
# started it) was switched to, or else what the project here requires, or else the default.
function __vshelf_enter
    set -l runtime $argv[1]
    set -l variable $argv[2]
    set -l key (__vshelf_chosen $runtime)
    set -l base
    switch "$key"
        case '' '\?'
            set base $__vshelf_data/default/$runtime
        case system
        case '*'
            set base $__vshelf_data/shelf/$runtime/$key/build
    end
    set -l entries
    if set -q base[1]
        for folder in $argv[3..]
            set -a entries $base/$folder
        end
    end
    # Of the builtins the one that needs no substitution.
    set -l ours "^$(string escape --style=regex -- $__vshelf_data)/(default|shelf)/$(string escape --style=regex -- $runtime)/"
    for entry in $PATH
        string match -rq -- $ours $entry/
        or set -a entries $entry
    end
    set -gx PATH $entries
    if test -n "$variable"
        if set -q base[1]; and test -d $base
            set -gx $variable $base
        else if string match -rq -- $ours "$$variable/"
            set -e $variable
        end
    end
end

# __vshelf_name_active RUNTIME DEFAULT: prints what is active of it, for prompts to show.
function __vshelf_name_active
    set -l key (__vshelf_chosen $argv[1])
    set -l shown $argv[2]
    if test -n "$key"; and test "$key" != '?'
        set shown (__vshelf_show $argv[1] $key)
    end
    test -n "$shown"; and echo -- $argv[1] $shown
end

# Asks the program what can stand where the cursor is.
function __vshelf_complete
    set -l words (commandline -opc) (commandline -ct)
    $__vshelf_program suggest -- $words[2..] 2>/dev/null
end

set -g __vshelf_loaded 1
