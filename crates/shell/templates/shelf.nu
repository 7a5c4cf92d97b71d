# Vivid Shelf for Nushell. `vshelf connect` writes this file; what is changed here is lost.

const __vshelf_data = @DATA@
const __vshelf_program = @PROGRAM@
const __vshelf_stamps = @STAMPS@

# What a text such as marram=8.3.1 node=20.1.0 says by runtime; the first word of a runtime decides.
def __vshelf_words [texts: list<string>]: nothing -> record {
  $texts | each { split row ' ' } | flatten | reduce --fold {} {|word, words|
    let parts = $word | split row --number 2 '='
    if ($parts | length) == 2 and $parts.0 not-in $words {
      $words | insert ([$parts.0] | into cell-path) $parts.1
    } else {
      $words
    }
  }
}

# The choice of this shell by runtime: that of a switch, or else of the project. A switch to an install that is gone does not
# count.
def __vshelf_chosen []: nothing -> record {
  let switched = __vshelf_words [($env.VSHELF_SWITCHED? | default '')]
  let gone = $switched | items {|name, key|
    if $key == 'system' or ($"($__vshelf_data)/shelf/($name)/($key)" | path exists) { null } else { [$name] | into cell-path }
  } | compact
  $env.__vshelf.followed | merge ($switched | reject --optional ...$gone)
}

# Puts the folders of what is active in front of PATH: the version this shell (or the one that
# started it) was switched to, or else what the project here requires, or else the default.
def --env __vshelf_enter [runtime: record] {
  let own_default = $"($__vshelf_data)/default/($runtime.name)"
  let installs = $"($__vshelf_data)/shelf/($runtime.name)"
  let ours = [$"($own_default)/" $"($installs)/"]
  let key = __vshelf_chosen | get --optional ([$runtime.name] | into cell-path)
  let base = match $key {
    null | '?' => $own_default
    'system' => null
    _ => $"($installs)/($key)/build"
  }
  let folders = if $base == null { [] } else { $runtime.folders | each {|folder| $"($base)/($folder)" } }
  let others = $env.PATH | where {|entry| not ($ours | any {|folder| $"($entry)/" | str starts-with $folder }) }
  $env.PATH = $folders ++ $others
  if $runtime.variable != '' {
    let variable = [$runtime.variable] | into cell-path
    if $base != null and ($"($base)/." | path exists) {
      load-env {$runtime.variable: $base}
    } else if (do {|value| $ours | any {|folder| $"($value)/" | str starts-with $folder } } ($env | get --optional $variable | default '')) {
      hide-env $runtime.variable
    }
  }
}

# The selector of a key, which names the publisher unless it is the main one: 8.3.1 for saltmarsh-8.3.1,
# dunefield/8.3.1 for dunefield-8.3.1.
def __vshelf_shown [name: string, key: string]: nothing -> string {
  let selector = $key | str replace --regex '^(.*?)-([0-9])' '$1/$2'
  let mains = $env.__vshelf.known.enter | where name == $name | each {|runtime| $"($runtime.publisher)/" }
  let main = $mains | append '/' | first
  if ($selector | str starts-with $main) { $selector | str substring ($main | str length).. } else { $selector }
}

# Says in VSHELF_ACTIVE what is active, for prompts to show.
def --env __vshelf_name_all [] {
  let chosen = __vshelf_chosen
  $env.VSHELF_ACTIVE = $env.__vshelf.known.enter | each {|runtime|
    let key = $chosen | get --optional ([$runtime.name] | into cell-path) | default '?'
    let named = if $key == '?' { $runtime.default } else { __vshelf_shown $runtime.name $key }
    if $named == '' { null } else { $"($runtime.name) ($named)" }
  } | compact | str join ', '
}

def --env __vshelf_enter_all [] {
  for runtime in $env.__vshelf.known.enter { __vshelf_enter $runtime }
  __vshelf_name_all
}

# The requirement files from this folder upward, nearest first, with their times and those of their stamps.
def __vshelf_requirement_files []: nothing -> table {
  mut found = []
  mut at = $env.PWD
  mut folders = 0
  # Of the folders that have such files the nearest ten count.
  while $folders < 10 {
    let before = $found | length
    let folder = if $at == '/' { '' } else { $at }
    for name in $env.__vshelf.known.requirements {
      let file = $"($folder)/($name)"
      if ($file | path exists) and ($file | path expand | path type) == 'file' {
        let stamp = $"($__vshelf_stamps)($file)"
        $found ++= [[file stamp time made]; [$file $stamp (__vshelf_time $file) (__vshelf_time $stamp)]]
      }
    }
    if ($found | length) > $before { $folders += 1 }
    if $folder == '' { break }
    $at = $at | path dirname
  }
  $found
}

def __vshelf_time [file: string]: nothing -> any {
  # A pattern would read some of the letters of a name as signs of its own.
  try { ls --directory ($file | path expand | str replace --all --regex '([\[\]*?{}])' '[$1]' | into glob) | get 0.modified } catch { null }
}

# Follows what the project here requires. The program runs only where that is not known.
def --env __vshelf_look [] {
  if ($env.__vshelf.known.requirements | is-empty) { return }
  let files = __vshelf_requirement_files
  if [$env.PWD $files] == $env.__vshelf.signature { return }
  let lines = $files | each {|file| if $file.time == $file.made { open --raw $file.stamp | str trim } }
  let asks = ($lines | length) < ($files | length) or ($lines | any {|line| $line == 'again' or ($line | str starts-with 'again ') })
  mut words = __vshelf_words $lines
  mut notices = []
  if $asks and ($__vshelf_program | path exists) {
    let answer = try { ^$__vshelf_program connect --look nu | lines } catch { [] }
    $words = __vshelf_words ($answer | take 1)
    $notices = $answer | skip 1
  }
  # Told when the project is entered, and not in each of its folders.
  if $notices != $env.__vshelf.told { for line in $notices { print --stderr $line } }
  $env.__vshelf.told = $notices
  $env.__vshelf.signature = [$env.PWD (__vshelf_requirement_files)]
  let before = $env.__vshelf.followed
  if $words != $before {
    $env.__vshelf.followed = $words
    __vshelf_enter_all
    if $nu.is-interactive and $env.__vshelf.known.says == 'announce' {
      let switched = __vshelf_words [($env.VSHELF_SWITCHED? | default '')]
      for pair in ($words | transpose name key) {
        let name = [$pair.name] | into cell-path
        if $pair.key == '?' or $pair.key == ($before | get --optional $name) { continue }
        let shown = $"vshelf: ($pair.name) (__vshelf_shown $pair.name $pair.key)"
        # A switch takes precedence over what the project requires.
        if $pair.name in $switched {
          if ($switched | get $name) == $pair.key { continue }
          let stays = __vshelf_shown $pair.name ($switched | get $name)
          print --stderr $"($shown) is required here; this shell stays switched to ($stays)"
        } else {
          print --stderr $"($shown) here, as the project requires"
        }
      }
      for pair in ($before | transpose name key) {
        if $pair.key != '?' and $pair.name not-in $words and $pair.name not-in $switched {
          print --stderr $"vshelf: ($pair.name) follows the default again"
        }
      }
    }
  }
}

def --env __vshelf_load [] {
  let file = $"($__vshelf_data)/connect/runtimes.json"
  $env.__vshelf.known = try { open --raw $file | from json } catch { {requirements: [], says: '', enter: []} }
}

# Runs the program, and lets it change this shell: it writes the changes to a file, as data.
def --env --wrapped vshelf [...arguments] {
  let program = if ($__vshelf_program | path exists) {
    $__vshelf_program
  } else {
    which --all vshelf | where type == external | get --optional 0.path
  }
  if $program == null {
    print --stderr $"vshelf: the program is gone from ($__vshelf_program); install it again and run: vshelf connect"
    ^sh -c 'exit 127'
    return
  }
  let changes = mktemp --tmpdir
  let result = with-env {VSHELF_SHELL: nu, VSHELF_SHELL_ID: ($nu.pid | into string), VSHELF_EVALUATE: $changes} {
    try { ^$program ...$arguments; 0 } catch { $env.LAST_EXIT_CODE }
  }
  let wanted = try { open --raw $changes | from json } catch { null } | default {} | transpose name value
  rm --force $changes
  for change in ($wanted | where value != null) {
    if $change.name == 'PATH' {
      $env.PATH = $change.value | split row ':'
    } else {
      load-env {$change.name: $change.value}
    }
  }
  for change in ($wanted | where value == null) { hide-env --ignore-errors $change.name }
  # What is known of runtimes, and what the project requires, may be other than before.
  __vshelf_load
  __vshelf_name_all
  $env.__vshelf.signature = null
  __vshelf_look
  # The only way to end as the program did.
  if $result != 0 { ^sh -c $"exit ($result)" }
}

$env.__vshelf = {known: {}, signature: null, followed: {}, told: []}
__vshelf_load
__vshelf_enter_all
__vshelf_look
if not ($env.config.hooks.pre_prompt | any {|hook| $hook == '__vshelf_look' }) {
  $env.config.hooks.pre_prompt = ($env.config.hooks.pre_prompt | append '__vshelf_look')
}
