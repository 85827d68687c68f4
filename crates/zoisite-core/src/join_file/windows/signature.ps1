# What a join file and the program that proves it do alike.
$Feed = [string][char]10

function Get-Sum([byte[]]$Octets) {
    $sha = [Security.Cryptography.SHA256]::Create()
    try { (($sha.ComputeHash($Octets) | ForEach-Object { $_.ToString('x2') }) -join '') } finally { $sha.Dispose() }
}

function Get-Ascii([string]$Text) { , [Text.Encoding]::ASCII.GetBytes($Text) }

# The lines after a mark in this file, which are comments to PowerShell, without what makes them so.
function Get-Part([string]$Text, [string]$Mark) {
    $at = $Text.IndexOf($Feed + '#' + $Mark + $Feed)
    if ($at -lt 0) { return '' }
    $lines = $Text.Substring($at + $Mark.Length + 3).Split("`n")
    $out = New-Object Text.StringBuilder
    foreach ($line in $lines) {
        if ($line -match '^# ([A-Za-z0-9+/=]+)$') { [void]$out.Append($Matches[1]) } else { break }
    }
    $out.ToString()
}

# Two numbers as DER has them (X.690), as .NET takes them: 32 octets each.
function ConvertFrom-Der([byte[]]$Der) {
    $out = New-Object byte[] 64
    $at = 2
    foreach ($part in 0, 1) {
        $length = [int]$Der[$at + 1]
        $from = $at + 2
        $rest = $length
        while ($rest -gt 32) { $from++; $rest-- }
        [Array]::Copy($Der, $from, $out, 32 * $part + 32 - $rest, $rest)
        $at += 2 + $length
    }
    , $out
}

# Whether a text is signed by the key of that point (SEC 1, section 2.3.3), whose fingerprint is $By.
function Test-Signature([string]$Text, [string]$Point, [string]$By) {
    $at = $Text.IndexOf($Feed + '#signature' + $Feed)
    if ($at -lt 0) { return $false }
    $octets = [Convert]::FromBase64String($Point)
    $prefix = [byte[]]@(0x30, 0x59, 0x30, 0x13, 0x06, 0x07, 0x2a, 0x86, 0x48, 0xce, 0x3d, 0x02, 0x01, 0x06, 0x08, 0x2a,
        0x86, 0x48, 0xce, 0x3d, 0x03, 0x01, 0x07, 0x03, 0x42, 0x00, 0x04)
    if ((Get-Sum ([byte[]]($prefix + $octets))) -ne $By) { return $false }
    $blob = [byte[]]@(0x45, 0x43, 0x53, 0x31, 0x20, 0, 0, 0) + $octets
    $key = [Security.Cryptography.CngKey]::Import($blob, [Security.Cryptography.CngKeyBlobFormat]::EccPublicBlob)
    $signer = New-Object Security.Cryptography.ECDsaCng $key
    $signer.HashAlgorithm = [Security.Cryptography.CngAlgorithm]::Sha256
    try {
        $signature = ConvertFrom-Der ([Convert]::FromBase64String((Get-Part $Text 'signature')))
        return $signer.VerifyData((Get-Ascii $Text.Substring(0, $at + 1)), $signature)
    } catch { return $false }
}
