# Runs a join file once it is proven: signed by the key above, whole, and not older than the last one that was carried out
# here. Nothing of it runs before.
$ErrorActionPreference = 'Stop'
Set-StrictMode -Version 2
$Known = 'C:\zoisite\join'

function Stop-Here([string]$Why) {
    Write-Host "zoisite: $Why"
    Write-Host 'zoisite: nothing of it was run'
    exit 1
}

function Invoke-Main {
    if (-not (Test-Path -LiteralPath $JoinFile)) { Stop-Here "the join file $JoinFile cannot be read" }
    $octets = [IO.File]::ReadAllBytes((Resolve-Path -LiteralPath $JoinFile).Path)
    # Signed octet by octet: a text that is read as another encoding is another text.
    $text = [Text.Encoding]::ASCII.GetString($octets)
    $after = $text.IndexOf($Feed + '#signature' + $Feed)
    $whole = $after -ge 0
    if ($whole) {
        # What follows the signed text is its signature and nothing else, as PowerShell would read on there.
        foreach ($line in $text.Substring($after + 12).TrimEnd($Feed[0]).Split($Feed[0])) {
            if ($line -notmatch '^# [A-Za-z0-9+/=]+$') { $whole = $false }
        }
        foreach ($octet in $octets) { if ($octet -gt 127) { $whole = $false; break } }
    }
    if (-not $whole -or -not (Test-Signature $text $Point $By)) {
        Stop-Here "the join file $JoinFile was cut or altered, or is not signed by the key $By"
    }
    $number = if ($text -match '(?m)^    Number = ([0-9]+)$') { [long]$Matches[1] } else { -1 }
    $last = if (Test-Path -LiteralPath "$Known\number") { [long][IO.File]::ReadAllText("$Known\number").Trim() } else { 0 }
    if ($number -lt $last) { Stop-Here "the join file $JoinFile is number $number, and number $last was carried out here" }
    if ($Only) { return }
    & powershell -NoProfile -ExecutionPolicy Bypass -File $JoinFile @Options
    exit $LASTEXITCODE
}
