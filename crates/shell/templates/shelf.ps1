# Vivid Shelf for PowerShell. `vshelf connect` writes this file; what is changed here is lost.

$global:__vshelf = @{ Signature = $null; Followed = @{}; Told = @(); Known = $null }
$global:__vshelf.Data = @DATA@
$global:__vshelf.Program = @PROGRAM@
$global:__vshelf.Stamps = @STAMPS@

# What texts such as marram=8.3.1 node=20.1.0 say by runtime; the first word of a runtime decides.
function global:__vshelf_words([string[]] $Texts) {
    $words = @{}
    foreach ($word in (-split ($Texts -join ' '))) {
        $name, $key = $word -split '=', 2
        if ($null -ne $key -and -not $words.ContainsKey($name)) { $words[$name] = $key }
    }
    return $words
}

function global:__vshelf_is_ours([string] $Path, [string[]] $Ours) {
    foreach ($folder in $Ours) {
        if ("$Path/".StartsWith("$folder/", [StringComparison]::Ordinal)) { return $true }
    }
    return $false
}

# The choice of this shell: that of a switch, or else of the project. A switch to an install that is gone does not count.
function global:__vshelf_chosen([string] $Name) {
    $key = (__vshelf_words $env:VSHELF_SWITCHED)[$Name]
    $counts = $key -ceq 'system' -or ($key -and [IO.Directory]::Exists("$($global:__vshelf.Data)/shelf/$Name/$key"))
    if ($counts) { $key } else { $global:__vshelf.Followed[$Name] }
}

# Puts the folders of what is active in front of PATH: the version this shell (or the one that
# started it) was switched to, or else what the project here requires, or else the default.
function global:__vshelf_enter($Runtime) {
    $default = "$($global:__vshelf.Data)/default/$($Runtime.name)"
    $installs = "$($global:__vshelf.Data)/shelf/$($Runtime.name)"
    $ours = @($default, $installs)
    $key = __vshelf_chosen $Runtime.name
    $base = if ($key -ceq 'system') { $null }
    elseif (-not $key -or $key -ceq '?') { $default }
    else { "$installs/$key/build" }
    $entries = @()
    if ($null -ne $base) { $entries += @($Runtime.folders | ForEach-Object { "$base/$_" }) }
    $entries += @($env:PATH -split ':' | Where-Object { -not (__vshelf_is_ours $_ $ours) })
    $env:PATH = $entries -join ':'
    if ($Runtime.variable) {
        $before = [Environment]::GetEnvironmentVariable($Runtime.variable)
        if ($null -ne $base -and [IO.Directory]::Exists($base)) {
            [Environment]::SetEnvironmentVariable($Runtime.variable, $base)
        } elseif ($before -and (__vshelf_is_ours $before $ours)) {
            [Environment]::SetEnvironmentVariable($Runtime.variable, $null)
        }
    }
}

# The selector of a key, which names the publisher unless it is the main one: 8.3.1 for saltmarsh-8.3.1,
# dunefield/8.3.1 for dunefield-8.3.1.
function global:__vshelf_shown([string] $name, [string] $key) {
    $selector = $key -creplace '^(.*?)-(?=[0-9])', '$1/'
    $main = ($global:__vshelf.Known.enter | Where-Object { $_.name -ceq $name }).publisher
    if ($main -and $selector.StartsWith("$main/")) { $selector.Substring($main.Length + 1) } else { $selector }
}

# Says in VSHELF_ACTIVE what is active, for prompts to show.
function global:__vshelf_name_all {
    $active = foreach ($runtime in $global:__vshelf.Known.enter) {
        $key = __vshelf_chosen $runtime.name
        $named = if (-not $key -or $key -ceq '?') { $runtime.default } else { __vshelf_shown $runtime.name $key }
        if ($named) { "$($runtime.name) $named" }
    }
    $env:VSHELF_ACTIVE = $active -join ', '
}

function global:__vshelf_enter_all {
    foreach ($runtime in $global:__vshelf.Known.enter) { __vshelf_enter $runtime }
    __vshelf_name_all
}

# The requirement files from this folder upward, nearest first, with their stamps; the time of what is not
# there is that of the year 1601.
function global:__vshelf_requirement_files([string] $At) {
    # Of the folders that have such files the nearest ten count.
    $folders = 0
    while ($At -and $folders -lt 10) {
        $has = $false
        foreach ($name in $global:__vshelf.Known.requirements) {
            $file = [IO.Path]::Combine($At, $name)
            if ([IO.File]::Exists($file)) {
                $has = $true
                $stamp = $global:__vshelf.Stamps + $file
                [pscustomobject]@{
                    File = $file
                    Stamp = $stamp
                    Time = [IO.File]::GetLastWriteTimeUtc($file).Ticks
                    Made = [IO.File]::GetLastWriteTimeUtc($stamp).Ticks
                }
            }
        }
        if ($has) { $folders++ }
        $At = [IO.Path]::GetDirectoryName($At)
    }
}

function global:__vshelf_sign([string] $At, $Files) {
    return (@($At) + @($Files | ForEach-Object { "$($_.File)//$($_.Time)//$($_.Made)" })) -join '//'
}

# Follows what the project here requires. The program runs only where that is not known.
function global:__vshelf_look {
    if (-not $global:__vshelf.Known.requirements) { return }
    $here = (Get-Location -PSProvider FileSystem).ProviderPath
    $files = @(__vshelf_requirement_files $here)
    if ((__vshelf_sign $here $files) -ceq $global:__vshelf.Signature) { return }
    $current = @($files | Where-Object { $_.Time -eq $_.Made })
    $lines = @($current | ForEach-Object { [IO.File]::ReadAllText($_.Stamp) })
    $words = __vshelf_words $lines
    $notices = @()
    $asks = $lines.Count -lt $files.Count -or @($lines | Where-Object { $_ -cmatch '^again\b' })
    if ($asks -and [IO.File]::Exists($global:__vshelf.Program)) {
        $answer = @(& $global:__vshelf.Program connect --look powershell)
        $words = __vshelf_words @($answer | Select-Object -First 1)
        $notices = @($answer | Select-Object -Skip 1)
        $files = @(__vshelf_requirement_files $here)
    }
    # Told when the project is entered, and not in each of its folders.
    if ("$notices" -cne "$($global:__vshelf.Told)") {
        $notices | ForEach-Object { [Console]::Error.WriteLine($_) }
    }
    $global:__vshelf.Told = $notices
    $global:__vshelf.Signature = __vshelf_sign $here $files
    $before = $global:__vshelf.Followed
    $global:__vshelf.Followed = $words
    $changed = @($words.Keys) + @($before.Keys) | Where-Object { $words[$_] -cne $before[$_] }
    if (-not $changed) { return }
    __vshelf_enter_all
    if ($global:__vshelf.Known.says -ceq 'announce') {
        $switched = __vshelf_words $env:VSHELF_SWITCHED
        foreach ($name in $words.Keys) {
            $key = $words[$name]
            if ($key -ceq '?' -or $key -ceq $before[$name]) { continue }
            $shown = "vshelf: $name $(__vshelf_shown $name $key)"
            # A switch takes precedence over what the project requires.
            if ($switched.ContainsKey($name)) {
                if ($switched[$name] -ceq $key) { continue }
                $stays = __vshelf_shown $name $switched[$name]
                [Console]::Error.WriteLine("$shown is required here; this shell stays switched to $stays")
            } else {
                [Console]::Error.WriteLine("$shown here, as the project requires")
            }
        }
        foreach ($name in $before.Keys) {
            if ($before[$name] -cne '?' -and -not $words.ContainsKey($name) -and -not $switched.ContainsKey($name)) {
                [Console]::Error.WriteLine("vshelf: $name follows the default again")
            }
        }
    }
}

function global:__vshelf_load {
    $file = "$($global:__vshelf.Data)/connect/runtimes.json"
    $global:__vshelf.Known = if ([IO.File]::Exists($file)) {
        [IO.File]::ReadAllText($file) | ConvertFrom-Json
    } else {
        [pscustomobject]@{ requirements = @(); says = ''; enter = @() }
    }
}

# Runs the program, and lets it change this shell: it writes the changes to a file, as data.
function global:vshelf {
    $program = $global:__vshelf.Program
    if (-not [IO.File]::Exists($program)) {
        $found = Get-Command vshelf -CommandType Application -ErrorAction Ignore
        $program = $found | Select-Object -First 1 -ExpandProperty Source
    }
    if (-not $program) {
        [Console]::Error.WriteLine("vshelf: the program is gone from $($global:__vshelf.Program); install it again and run: vshelf connect")
        $global:LASTEXITCODE = 127
        return
    }
    $changes = [IO.Path]::GetTempFileName()
    $env:VSHELF_SHELL = 'powershell'
    $env:VSHELF_SHELL_ID = $PID
    $env:VSHELF_EVALUATE = $changes
    try {
        & $program @args
    } finally {
        $result = $LASTEXITCODE
        $env:VSHELF_SHELL = $null
        $env:VSHELF_SHELL_ID = $null
        $env:VSHELF_EVALUATE = $null
        $text = [IO.File]::ReadAllText($changes)
        [IO.File]::Delete($changes)
        if ($text) {
            foreach ($change in ($text | ConvertFrom-Json).PSObject.Properties) {
                [Environment]::SetEnvironmentVariable($change.Name, $change.Value)
            }
        }
        # What is known of runtimes, and what the project requires, may be other than before.
        __vshelf_load
        __vshelf_name_all
        $global:__vshelf.Signature = $null
        __vshelf_look
        $global:LASTEXITCODE = $result
    }
}

# The prompt that was there stays, and sees how the last command ended.
if (-not (Test-Path function:global:__vshelf_prompt)) {
    ${function:global:__vshelf_prompt} = ${function:global:prompt}
    function global:prompt {
        $result = $global:LASTEXITCODE
        __vshelf_look
        $global:LASTEXITCODE = $result
        __vshelf_prompt
    }
}

__vshelf_load
__vshelf_enter_all
__vshelf_look
