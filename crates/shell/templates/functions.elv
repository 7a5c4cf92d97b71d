# Vivid Shelf for Elvish: what the file beside this one reads when it is first needed. The hook
# gives the places ($data, $program, $stamps) and what asks for kinds of files.

use re
use str

# Whether there is a line to type on: then following is told.
var is-interactive = $false
try { eval 'nop $edit:before-readline'; set is-interactive = $true } catch { }

# The runtimes to enter and the files that require them, which change with the shelf.
var known = [&requirements=[] &says='' &enter=[]]
# What was looked at last, what each file said when its stamp was made, and what it all resulted in.
var signature = $nil
var answered = [&]
var followed = [&]
var told = []

# What a text such as marram=8.3.1 node=20.1.0 says by runtime; the first word of a runtime decides.
# What is captured goes through a pipe of the system, so that functions called often set variables.
fn read-words {|@texts|
  var words = [&]
  for text $texts {
    for word [(str:split ' ' (str:trim-space $text))] {
      var at = (str:index $word '=')
      if (and (> $at 0) (not (has-key $words $word[..$at]))) {
        set words[$word[..$at]] = $word[(+ $at 1)..]
      }
    }
  }
  put $words
}

fn switched {
  if (has-env VSHELF_SWITCHED) { read-words $E:VSHELF_SWITCHED } else { put [&] }
}

# The choice of this shell by runtime: that of a switch, or else of the project. A switch to an install that is gone does
# not count.
fn chosen {
  var words = $followed
  var switches = (switched)
  for name [(keys $switches)] {
    var key = $switches[$name]
    if (or (eq $key system) (is-dir &follow-symlink=$true $data/shelf/$name/$key)) { set words[$name] = $key }
  }
  put $words
}

# Puts the folders of what is active in front of PATH: the version this shell (or the one that
# started it) was switched to, or else what the project here requires, or else the default.
fn enter {|runtime|
  var name = $runtime[name]
  var own-default = $data/default/$name
  var installs = $data/shelf/$name
  var base = $own-default
  var words = (chosen)
  if (has-key $words $name) {
    if (eq $words[$name] system) {
      set base = ''
    } elif (not-eq $words[$name] '?') {
      set base = $installs/$words[$name]/build
    }
  }
  var entries = []
  if (not-eq $base '') {
    for folder $runtime[folders] { set entries = [$@entries $base/$folder] }
  }
  for entry $paths {
    if (not (or (str:has-prefix $entry/ $own-default/) (str:has-prefix $entry/ $installs/))) { set entries = [$@entries $entry] }
  }
  set paths = $entries
  var variable = $runtime[variable]
  if (not-eq $variable '') {
    if (and (not-eq $base '') (is-dir &follow-symlink=$true $base)) {
      set-env $variable $base
    } elif (has-env $variable) {
      var value = (get-env $variable)/
      if (or (str:has-prefix $value $own-default/) (str:has-prefix $value $installs/)) {
        unset-env $variable
      }
    }
  }
}

# The selector of a key, which names the publisher unless it is the main one: 8.3.1 for saltmarsh-8.3.1,
# dunefield/8.3.1 for dunefield-8.3.1.
fn shown {|name key|
  var selector = (re:replace '^(.*?)-([0-9])' '${1}/$2' $key)
  for runtime $known[enter] {
    if (eq $runtime[name] $name) { set selector = (str:trim-prefix $selector $runtime[publisher]/) }
  }
  put $selector
}

# Says in VSHELF_ACTIVE what is active, for prompts to show.
fn name-all {
  var words = (chosen)
  var active = []
  for runtime $known[enter] {
    var name = $runtime[name]
    var named = $runtime[default]
    if (and (has-key $words $name) (not-eq $words[$name] '?')) { set named = (shown $name $words[$name]) }
    if (not-eq $named '') { set active = [$@active $name' '$named] }
  }
  set-env VSHELF_ACTIVE (str:join ', ' $active)
}

fn enter-all {
  for runtime $known[enter] { enter $runtime }
  name-all
}

# The requirement files from this folder upward, nearest first.
fn requirement-files {
  var folder = $pwd
  var folders = (num 0)
  while (< $folders 10) {
    if (eq $folder /) { set folder = '' }
    var here = [(for name $known[requirements] {
      if (is-regular &follow-symlink=$true $folder/$name) { put $folder/$name }
    })]
    all $here
    if (not-eq $here []) { set folders = (+ $folders 1) }
    if (eq $folder '') { break }
    set folder = $folder[..(str:last-index $folder /)]
  }
}

fn read-file {|file| try { slurp < $file } catch { put '' } }

fn stamp-of {|file| put $stamps$file }

# What there is to follow, for comparing: the files, what they say, and whether they have stamps.
fn look-around {|files|
  put [(for file $files { put [$file (read-file $file) (is-regular (stamp-of $file))] })]
}

# Follows what the project here requires. The program runs only where that is not known.
fn look {
  if (eq $known[requirements] []) { return }
  var files = [(requirement-files)]
  var seen = [$pwd (look-around $files)]
  if (eq $seen $signature) { return }
  var asks = $false
  var lines = [(for file $files {
    var line = (read-file (stamp-of $file))
    if (or (not (is-regular (stamp-of $file))) (not (has-key $answered $file)) (str:has-prefix $line 'again ')) {
      set asks = $true
    } elif (not-eq $answered[$file] (read-file $file)) {
      set asks = $true
    }
    put $line
  })]
  var words = (read-words $@lines)
  var notices = []
  if (and $asks (is-regular &follow-symlink=$true $program)) {
    var answer = [(try { (external $program) connect --look elvish | from-lines } catch { })]
    for file $files { set answered[$file] = (read-file $file) }
    set words = (read-words (take 1 $answer))
    if (> (count $answer) 1) { set notices = $answer[1..] }
  }
  # Told when the project is entered, and not in each of its folders.
  if (not-eq $notices $told) {
    for line $notices { echo $line >&2 }
  }
  set told = $notices
  set signature = [$pwd (look-around $files)]
  if (not-eq $words $followed) {
    var before = $followed
    set followed = $words
    enter-all
    if (and $is-interactive (eq $known[says] announce)) {
      var switches = (switched)
      for name [(keys $words)] {
        var same = (and (has-key $before $name) (eq $before[$name] $words[$name]))
        if (or $same (eq $words[$name] '?')) { continue }
        # A switch takes precedence over what the project requires.
        if (has-key $switches $name) {
          if (eq $switches[$name] $words[$name]) { continue }
          echo 'vshelf: '$name' '(shown $name $words[$name])' is required here; this shell stays switched to '(shown $name $switches[$name]) >&2
        } else {
          echo 'vshelf: '$name' '(shown $name $words[$name])' here, as the project requires' >&2
        }
      }
      for name [(keys $before)] {
        if (not (or (has-key $words $name) (has-key $switches $name) (eq $before[$name] '?'))) {
          echo 'vshelf: '$name' follows the default again' >&2
        }
      }
    }
  }
}

# What changes with the shelf and the settings.
fn load { set known = (try { from-json < $data/connect/runtimes.json } catch { put $known }) }

# Runs the program, and lets it change this shell: it writes the changes to a file, as data.
fn vshelf {|@arguments|
  var run = $program
  if (not (is-regular &follow-symlink=$true $program)) {
    set run = (try { search-external vshelf } catch { put '' })
  }
  if (eq $run '') {
    echo 'vshelf: the program is gone from '$program'; install it again and run: vshelf connect' >&2
    fail 'vshelf is not installed'
  }
  var changes = (e:mktemp)
  set-env VSHELF_SHELL elvish
  set-env VSHELF_SHELL_ID $pid
  set-env VSHELF_EVALUATE $changes
  try {
    (external $run) $@arguments
  } finally {
    unset-env VSHELF_SHELL
    unset-env VSHELF_SHELL_ID
    unset-env VSHELF_EVALUATE
    for wanted [(try { from-json < $changes } catch { })] {
      for name [(keys $wanted)] {
        if (eq $wanted[$name] $nil) { unset-env $name } else { set-env $name $wanted[$name] }
      }
    }
    e:rm -f -- $changes
    # What is known of runtimes, and what the project requires, may be other than before.
    load
    name-all
    set signature = $nil
    look
  }
}

# Asks the program what can stand where the cursor is.
fn suggest {|@words|
  (external $program) suggest -- (all $words[1..]) 2>/dev/null | from-lines | each {|line|
    var @parts = (str:split "\t" $line)
    eval &ns=(ns [&parts=$parts]) 'edit:complex-candidate $parts[0] &display=$parts[0]"  "$parts[1]'
  }
}

load
