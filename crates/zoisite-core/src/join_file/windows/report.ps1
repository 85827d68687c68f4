# How far it has come in joining: each stage with what shows it.
function Get-Stages($Opened) {
    $out = New-Object 'Collections.Generic.List[string]'
    $stage = { param($name, $passed, $seen) $out.Add("@`tstage`t$name`t$passed`t$(([string]$seen) -replace '[\t\r\n]+', ' ')") }
    $system = Get-CimInstance Win32_OperatingSystem
    $since = [int]([DateTime]::Now - $system.LastBootUpTime).TotalSeconds
    & $stage 'booted' 'yes' "for $since s, $($system.Caption) $($system.Version)"
    $own = @(Get-NetIPAddress | ForEach-Object { $_.IPAddress })
    $has = @($File.Addresses | Where-Object { $own -contains $_ })
    if ($has.Count -eq 0) {
        & $stage 'address' 'no' "it has none of $($File.Addresses -join ', '), but $($own -join ' ')"
        return , $out
    }
    & $stage 'address' 'yes' ($has -join ' ')
    $stable = $Opened.stable
    try { $leads = @([Net.Dns]::GetHostAddresses($stable.host) | ForEach-Object { $_.ToString() }) } catch { $leads = @() }
    if ($leads.Count -eq 0) {
        & $stage 'name' 'no' "nobody knows $($stable.host)"
        return , $out
    }
    & $stage 'name' 'yes' "$($stable.host) leads to $($leads -join ' ')"
    $answer = Ask-Cluster $Opened 'GET' '/version' ''
    if ($answer -notlike 'HTTP/*') {
        $which = if ($answer -like 'tls*') { 'authority' } else { 'port' }
        if ($which -eq 'authority') { & $stage 'port' 'yes' "$($stable.host):$($stable.port) lets it in" }
        & $stage $which 'no' $answer
        return , $out
    }
    & $stage 'port' 'yes' "$($stable.host):$($stable.port) lets it in"
    & $stage 'authority' 'yes' "it shows a certificate of the cluster's authority"
    $identity = Get-Identity $Opened.identity
    $service = Get-Service -Name 'zoisite-kubelet' -ErrorAction SilentlyContinue
    if (-not $identity) {
        $known = if ($answer -match '^HTTP/\S+ 401') { 'no' } elseif (Test-Path $Opened.token) { 'yes' } else { 'open' }
        & $stage 'token' $known $answer
    }
    $runs = $service -and "$($service.Status)" -eq 'Running'
    & $stage 'kubelet' $(if ($runs) { 'yes' } else { 'no' }) $(if ($service) { "its service is $($service.Status)" } else { 'there is no such service yet' })
    & $stage 'signed' $(if ($identity) { 'yes' } else { 'open' }) $(if ($identity) { "until $($identity.NotAfter.ToUniversalTime().ToString('u'))" } else { 'zoisite raise signs what it asks for' })
    # Of its node the cluster tells: zoisite status joining.
    if ($identity -and $runs) { & $stage 'Ready' 'open' 'zoisite status joining shows what the cluster says of its node' }
    , $out
}

# Asks the API endpoint by TLS with the cluster's own authority; the answer's first line, or why there is none.
function Ask-Cluster($Opened, [string]$Verb, [string]$Path, [string]$Body) {
    $stable = $Opened.stable
    $head = "$Verb $Path HTTP/1.0`r`nHost: $($stable.host)`r`n"
    $token = Read-Text $Opened.token
    if ($token) { $head += "Authorization: Bearer $token`r`n" }
    if ($Body) { $head += "Content-Type: application/apply-patch+yaml`r`nContent-Length: $($Body.Length)`r`n" }
    try { [ZoisiteNetwork]::Ask($stable.host, $stable.port, $Opened.authority, "$head`r`n$Body") } catch { $_.Exception.GetBaseException().Message }
}

# What it is like, in the lines that a look and a survey over SSH read.
function Get-Looks($Opened) {
    $system = Get-CimInstance Win32_OperatingSystem
    $machine = (Get-ItemProperty 'HKLM:\SOFTWARE\Microsoft\Cryptography').MachineGuid -replace '-', ''
    $out = New-Object 'Collections.Generic.List[string]'
    $add = { $out.Add("@`t" + (($args | ForEach-Object { ([string]$_) -replace '[\t\r\n]+', ' ' }) -join "`t")) }
    & $add 'machine' $machine
    & $add 'os' "windows $($system.Version)"
    & $add 'arch' $(if ($env:PROCESSOR_ARCHITECTURE -eq 'AMD64') { 'x86_64' } else { $env:PROCESSOR_ARCHITECTURE })
    & $add 'init' 'windows'
    & $add 'called' $env:COMPUTERNAME.ToLowerInvariant()
    if ($Opened.network) {
        $network = try { Get-Network $Opened.network } catch { $null }
        if ($network) {
            foreach ($policy in Get-Policies $network 'DrMacAddress') { & $add 'overlay' ($policy.Address -replace '-', ':').ToLowerInvariant() }
        }
    }
    & $add 'release' $system.Caption
    & $add 'kernel' $system.Version
    & $add 'cores' $env:NUMBER_OF_PROCESSORS
    & $add 'memory' 'MemTotal:' $system.TotalVisibleMemorySize
    & $add 'memory' 'MemAvailable:' $system.FreePhysicalMemory
    $disk = Get-CimInstance Win32_LogicalDisk -Filter "DeviceID='C:'"
    & $add 'place' 'programs' 'C:/' 'C:' $disk.FileSystem 'C:/' ([long]($disk.Size / 1024)) ([long]($disk.FreeSpace / 1024)) 0 0 'rw'
    $at = 1
    foreach ($address in Get-NetIPAddress) {
        $at++
        $family = if ("$($address.AddressFamily)" -eq 'IPv4') { 'inet' } else { 'inet6' }
        $plain = ($address.IPAddress -split '%')[0]
        & $add 'address' "${at}: $($address.InterfaceAlias -replace '\s', '_')    $family $plain/$($address.PrefixLength) scope global"
    }
    & $add 'end'
    , $out
}

# Its report: what was done, how far it has come, what it is like; sealed by its own passphrase, and counted.
function Write-report($Opened, [string]$Outcome) {
    $count = 1 + [long]('0' + (Read-Text "$Known\count"))
    Write-Text "$Known\count" "$count`n"
    $looks = Get-Looks $Opened
    $stages = if ($Opened.stable) { Get-Stages $Opened } else { @() }
    $lines = @('Zoisite report, form 1', "host $($File.Host)", "cluster $($File.Id)", "number $($File.Number)", "count $count",
        "at $([DateTimeOffset]::UtcNow.ToUnixTimeSeconds())", "outcome $Outcome", '#-- said') + $script:Said + @('#-- stands') + $stages +
    @('#-- looked') + $looks + @('#-- surveyed') + $looks + @('#-- end')
    $text = ($lines -join "`n") + "`n"
    $utf8 = New-Object Text.UTF8Encoding $false
    $seal = New-Object Security.Cryptography.HMACSHA256 (, [Convert]::FromBase64String($Opened.report))
    $sum = ($seal.ComputeHash($utf8.GetBytes($text)) | ForEach-Object { $_.ToString('x2') }) -join ''
    Write-Text "$Known\$($File.Host).report" "${text}seal $sum`n"
    Copy-Item "$Known\$($File.Host).report" $report -Force
    if ((Test-Path $Opened.token) -and (Send-report $Opened "${text}seal $sum`n")) {
        Show "its report is with the cluster (zoisite reports fetch), and here: $report"
    } else { Show "its report is ${report}: carry it back, and give it to zoisite reports read" }
    , $stages
}

# Leaves it with the cluster, as its token lets the host.
function Send-report($Opened, [string]$Text) {
    $memory = New-Object IO.MemoryStream
    $gzip = New-Object IO.Compression.GZipStream $memory, ([IO.Compression.CompressionMode]::Compress)
    $octets = [Text.Encoding]::UTF8.GetBytes($Text)
    $gzip.Write($octets, 0, $octets.Length)
    $gzip.Dispose()
    $object = @{
        apiVersion = 'v1'
        kind = 'ConfigMap'
        metadata = @{ name = $File.Host; namespace = $Opened.reports }
        binaryData = @{ 'report.gz' = [Convert]::ToBase64String($memory.ToArray()) }
    }
    $path = "/api/v1/namespaces/$($Opened.reports)/configmaps/$($File.Host)?fieldManager=zoisite-report&force=true"
    (Ask-Cluster $Opened 'PATCH' $path ($object | ConvertTo-Json -Depth 5 -Compress)) -match '^HTTP/\S+ 20[01]'
}

function Invoke-Main {
    $who = New-Object Security.Principal.WindowsPrincipal ([Security.Principal.WindowsIdentity]::GetCurrent())
    if (-not $who.IsInRole([Security.Principal.WindowsBuiltInRole]::Administrator)) {
        Stop-Here 'this wants to be run by an administrator' 'open PowerShell as one, and run it there'
    }
    if (-not $report) { $script:Report = Join-Path $PSScriptRoot "$($File.Host).report" }
    [void](New-Item -ItemType Directory -Force -Path $Folder, $Known)
    [void](Protect-Folder $Folder)
    $lock = New-Object Threading.Mutex $false, 'Global\zoisite-join'
    try { $own = $lock.WaitOne(3600000) } catch [Threading.AbandonedMutexException] { $own = $true }
    if (-not $own) { Stop-Here 'another join file is at work here' 'run this again when it has ended' }
    try {
        $text = [Text.Encoding]::ASCII.GetString([IO.File]::ReadAllBytes($PSCommandPath))
        Test-File $text
        Test-Host
        Test-Turn
        $opened = Open-File $text
        Add-Type -TypeDefinition $Native
        # From the first one that its passphrase opened on, it believes that signer alone.
        Write-Text "$Known\signer" "$($File.By)`n"
        Write-Text "$Known\host" "$($File.Host)`n"
        if ($opened.acts.Count -eq 0) {
            Show 'looks at itself, and changes nothing'
            [void](Write-report $opened 'looked')
            return 0
        }
        Show "begins with join file $($File.Number)"
        Write-Text "$Known\number" "$($File.Number)`n"
        try { Invoke-Acts $opened } catch {
            Show $_.Exception.Message
            [void](Write-report $opened 'failed')
            return 1
        }
        if (-not $opened.stable) {
            [void](Write-report $opened 'done')
            return 0
        }
        # Where it waits, somebody should hear of it meanwhile.
        if (-not (Get-Identity $opened.identity)) { [void](Write-report $opened 'done') }
        $end = [DateTime]::UtcNow.AddSeconds($Wait)
        while (-not (Get-Identity $opened.identity) -and [DateTime]::UtcNow -lt $end) { Start-Sleep -Seconds 3 }
        $signed = $null -ne (Get-Identity $opened.identity)
        if ($signed) { Show 'its certificate is signed: zoisite status joining shows how its node stands' } else { Show 'nobody has signed for it yet: zoisite raise does' }
        [void](Write-report $opened 'done')
        # Of no use any more.
        if ($signed -and (Test-Path $opened.token)) { Remove-Item $opened.token -Force }
        if ($signed) { return 0 } else { return 3 }
    } finally { $lock.ReleaseMutex() }
}
