# Completion of vshelf, for shells that are not connected.
__vshelf_program=${__vshelf_program:-vshelf}

__vshelf_suggest_word() {
  __vshelf_suggest "$2"
}
# Newest first stays so where bash can leave the order alone (4.4 and later).
builtin complete -o default -o nosort -F __vshelf_suggest_word vshelf 2>/dev/null ||
  builtin complete -o default -F __vshelf_suggest_word vshelf
