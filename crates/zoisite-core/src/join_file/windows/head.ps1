# Everything stands in functions that the last line before the sealed text calls, and PowerShell reads a file to its end
# before it begins: of a file that was cut nothing runs.
$ErrorActionPreference = 'Stop'
Set-StrictMode -Version 2
$Folder = 'C:\zoisite'
$Known = "$Folder\join"
$Put = "$Folder\put.jsonl"
$script:Said = New-Object 'Collections.Generic.List[string]'
$script:Steps = 0

function Show([string]$Text) {
    Write-Host "zoisite: $Text"
    if (Test-Path $Known) { [IO.File]::AppendAllText("$Known\log.txt", "$([DateTime]::UtcNow.ToString('u')) $Text`n") }
}

function Stop-Here([string]$Why, [string]$fix, [int]$Status = 1) {
    Show $Why
    if ($fix) { Show "fix: $fix" }
    exit $Status
}

# What a run over SSH would say: a report holds the same lines.
function Say {
    $words = $args | ForEach-Object { ([string]$_) -replace '[\t\r\n]+', ' ' }
    $script:Said.Add("@`t" + ($words -join "`t"))
}

# Read and written as UTF-8 with line feeds, whatever this system's own way is.
function Write-Text([string]$Path, [string]$Text) {
    [IO.File]::WriteAllText("$Path.new", $Text, (New-Object Text.UTF8Encoding $false))
    Move-Item -LiteralPath "$Path.new" -Destination $Path -Force
}

function Read-Text([string]$Path) {
    if (Test-Path -LiteralPath $Path) { [IO.File]::ReadAllText($Path).Trim() } else { '' }
}

# Who signed, and until when: before anything of it is opened.
function Test-File([string]$Text) {
    $broken = 'this join file was cut or altered: its signature does not hold'
    $again = 'carry it here again; nothing was done'
    if (-not (Test-Signature $Text $File.Point $File.By)) { Stop-Here $broken $again }
    $believed = Read-Text "$Known\signer"
    if ($believed -and $believed -ne $File.By) {
        Stop-Here "this join file was signed by somebody else ($($File.By)) than this machine was told of" `
            "if the cluster's signer is another one now: remove $Known\signer, and run this again"
    }
    $now = [DateTimeOffset]::UtcNow.ToUnixTimeSeconds()
    if ($now -lt $File.Made - 86400) {
        Stop-Here "this machine's clock is before the day on which the join file was made: $([DateTime]::UtcNow.ToString('u'))" `
            'set its clock; nothing was done'
    }
    if ($now -gt $File.Ends) {
        Stop-Here "this join file ended on $([DateTimeOffset]::FromUnixTimeSeconds($File.Ends).ToString('u'))" `
            'zoisite join-file write makes another one; nothing was done'
    }
}

# By what it was told before, its name, or one of its addresses.
function Test-Host {
    if ($Here) { return }
    $told = Read-Text "$Known\host"
    if ($told) {
        if ($told -eq $File.Host -or $told -eq $File.Was) { return }
        Stop-Here "this join file is for $($File.Host), and this machine was told that it is $told" `
            'carry each file to its own machine; nothing was done'
    }
    if ($env:COMPUTERNAME -eq $File.Host) { return }
    $own = @(Get-NetIPAddress | ForEach-Object { $_.IPAddress })
    foreach ($address in $File.Addresses) { if ($own -contains $address) { return } }
    Stop-Here "this join file is for $($File.Host), and this machine calls itself $env:COMPUTERNAME and has none of its addresses ($($File.Addresses -join ', '))" `
        'carry each file to its own machine, or say -Here; nothing was done'
}

# A file that is older than the last one would undo what that one did.
function Test-Turn {
    $last = Read-Text "$Known\number"
    if ($last -and [long]$last -gt $File.Number) {
        Stop-Here "this join file is number $($File.Number), and number $last was carried out here" 'an older file is not carried out; nothing was done'
    }
}

# The host's passphrase, by which the file is opened: from a file, or asked for.
function Get-Word {
    $at = $PassphraseFile
    if (-not $at -and (Test-Path "$Known\passphrase")) { $at = "$Known\passphrase" }
    if ($at) { $text = Read-Text $at } else {
        $secure = Read-Host -AsSecureString "passphrase of $($File.Host)"
        $text = (New-Object Net.NetworkCredential '', $secure).Password
    }
    ($text -replace '[\s-]', '').ToLowerInvariant()
}

# AES-256 in counter mode (NIST SP 800-38A, 6.5): this .NET has it only block by block.
function ConvertFrom-Sealed([byte[]]$Octets, [byte[]]$Key, [byte[]]$Counter) {
    $blocks = [int][Math]::Ceiling($Octets.Length / 16)
    $counters = New-Object byte[] (16 * $blocks)
    for ($block = 0; $block -lt $blocks; $block++) {
        [Array]::Copy($Counter, 0, $counters, 16 * $block, 16)
        for ($at = 15; $at -ge 0; $at--) {
            if ($Counter[$at] -eq 255) { $Counter[$at] = 0 } else { $Counter[$at]++; break }
        }
    }
    $aes = [Security.Cryptography.Aes]::Create()
    $aes.Mode = [Security.Cryptography.CipherMode]::ECB
    $aes.Padding = [Security.Cryptography.PaddingMode]::None
    $aes.Key = $Key
    $stream = $aes.CreateEncryptor().TransformFinalBlock($counters, 0, $counters.Length)
    $out = New-Object byte[] $Octets.Length
    for ($at = 0; $at -lt $Octets.Length; $at++) { $out[$at] = $Octets[$at] -bxor $stream[$at] }
    , $out
}

function Open-File([string]$Text) {
    $raw = [Convert]::FromBase64String((Get-Part $Text 'sealed'))
    $salt = [byte[]]$raw[8..15]
    $from = Get-Ascii ((Get-Word) + $File.By)
    $derive = New-Object Security.Cryptography.Rfc2898DeriveBytes $from, $salt, $File.Rounds, ([Security.Cryptography.HashAlgorithmName]::SHA256)
    $key = $derive.GetBytes(32)
    $counter = $derive.GetBytes(16)
    try {
        $packed = ConvertFrom-Sealed ([byte[]]$raw[16..($raw.Length - 1)]) $key $counter
        $memory = New-Object IO.MemoryStream (, $packed)
        $gzip = New-Object IO.Compression.GZipStream $memory, ([IO.Compression.CompressionMode]::Decompress)
        $reader = New-Object IO.StreamReader $gzip, ([Text.Encoding]::UTF8)
        $opened = $reader.ReadToEnd() | ConvertFrom-Json
        [void]$opened.report
        return $opened
    } catch {
        Stop-Here 'the passphrase does not open this join file' "zoisite join-file passphrase $($File.Host), where it was written, shows it; nothing was done"
    }
}
