#compdef vshelf
# Completion of vshelf, for shells that are not connected.
typeset -g __vshelf_program=${__vshelf_program:-vshelf}
