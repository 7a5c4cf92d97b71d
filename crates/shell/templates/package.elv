# Completion of vshelf, for shells that are not connected: rc.elv reads it by `eval (slurp < FILE)`.
use str
set edit:completion:arg-completer[vshelf] = {|@words|
  (external vshelf) suggest -- (all $words[1..]) 2>/dev/null | from-lines | each {|line|
    var @parts = (str:split "\t" $line)
    edit:complex-candidate $parts[0] &display=$parts[0]"  "$parts[1]
  }
}
