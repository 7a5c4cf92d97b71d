# Completion of vshelf, for shells that are not connected.
set -q __vshelf_program; or set -g __vshelf_program vshelf

function __vshelf_suggest
    set -l words (commandline -opc) (commandline -ct)
    $__vshelf_program suggest -- $words[2..] 2>/dev/null
end

complete -c vshelf -f -k -a '(__vshelf_suggest)'
complete -c vshelf -n '__fish_seen_subcommand_from adopt' -F
