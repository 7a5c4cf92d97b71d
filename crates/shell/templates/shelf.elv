# Vivid Shelf for Elvish. `vshelf connect` writes this file; what is changed here is lost.

use str

var data = @DATA@
var program = @PROGRAM@
var stamps = @STAMPS@

# What asks for kinds of files has moved from one module to another.
var is-dir~ is-regular~ = $nop~ $nop~
fn take-tests {|names| set is-dir~ is-regular~ = $names[is-dir~] $names[is-regular~] }
try {
  eval &on-end=$take-tests~ 'use os; var is-dir~ is-regular~ = $os:is-dir~ $os:is-regular~'
} catch {
  eval &on-end=$take-tests~ 'use path; var is-dir~ is-regular~ = $path:is-dir~ $path:is-regular~'
}

# What the file of functions defines. It is read when one is needed: a new shell parses only this.
var functions = $nil
fn need {
  if (eq $functions $nil) {
    var given = [&data=$data &program=$program &stamps=$stamps &is-dir~=$is-dir~ &is-regular~=$is-regular~]
    eval &ns=(ns $given) &on-end={|names| set functions = $names } (slurp < $data/connect/functions.elv)
  }
}

fn vshelf {|@arguments| need; $functions[vshelf~] $@arguments }
fn suggest {|@words| need; $functions[suggest~] $@words }

var known = [&requirements=[] &enter=[]]
try { set known = (from-json < $data/connect/runtimes.json) } catch { }

# Follows what the project here requires. Up to the first such file there is nothing to follow.
fn look {
  var folder = $pwd
  while (eq $functions $nil) {
    if (eq $folder /) { set folder = '' }
    for name $known[requirements] {
      if (is-regular &follow-symlink=$true $folder/$name) { need; break }
    }
    if (eq $folder '') { break }
    set folder = $folder[..(str:last-index $folder /)]
  }
  if (not-eq $functions $nil) { $functions[look~] }
}

# The hooks of a list that are not from an earlier reading of this file.
fn others {|hooks|
  for hook $hooks {
    var definition = (try { put $hook[def] } catch { put '' })
    if (not (str:contains $definition vshelf-looks)) { put $hook }
  }
}

# The defaults are entered here where nothing of ours is there yet, as in most new shells.
var is-new = (not (or (has-env VSHELF_SWITCHED) (str:contains $E:PATH $data/)))
for runtime $known[enter] {
  if (has-env $runtime[variable]) { set is-new = $false }
}
if $is-new {
  var active = []
  for runtime $known[enter] {
    var base = $data/default/$runtime[name]
    var entries = []
    for folder $runtime[folders] { set entries = [$@entries $base/$folder] }
    set paths = [$@entries $@paths]
    if (and (not-eq $runtime[variable] '') (is-dir &follow-symlink=$true $base)) {
      set-env $runtime[variable] $base
    }
    if (not-eq $runtime[default] '') { set active = [$@active $runtime[name]' '$runtime[default]] }
  }
  set-env VSHELF_ACTIVE (str:join ', ' $active)
} else {
  need
  $functions[enter-all~]
}
look
set after-chdir = [(others $after-chdir) {|vshelf-looks| look }]
try {
  # Evaluated apart, because these names are known only where there is a line to type on.
  eval &ns=(ns [&others~=$others~ &vshelf-looks~=$look~ &suggest~=$suggest~]) '
    set edit:before-readline = [(others $edit:before-readline) { vshelf-looks }]
    set edit:completion:arg-completer[vshelf] = $suggest~'
} catch { }
