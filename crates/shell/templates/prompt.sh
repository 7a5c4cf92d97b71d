
# This shell runs nothing before its prompt, so changing the folder is what is followed.
cd() {
  __vshelf_status=0
  command cd "$@" || __vshelf_status=$?
  __vshelf_look
  return "$__vshelf_status"
}
