# What stood there before is noted once, so that taking back needs nothing but the host.
function Add-Note([string]$Kind, [string]$Name, [string]$Before) {
    $line = @{ kind = $Kind; name = $Name; before = $Before } | ConvertTo-Json -Compress
    $noted = @(Get-Notes | Where-Object { $_.kind -eq $Kind -and $_.name -eq $Name })
    if ($noted.Count -eq 0) { [IO.File]::AppendAllText($Put, "$line`n") }
}

function Get-Notes {
    if (Test-Path $Put) { [IO.File]::ReadAllLines($Put) | Where-Object { $_ } | ForEach-Object { $_ | ConvertFrom-Json } }
}

# Does one thing, and says what came of it: the work says whether it changed anything.
function Step([string]$What, [scriptblock]$Work) {
    $script:Steps++
    Say 'begin' $script:Steps $What
    try { $changed = & $Work } catch {
        Say 'failed' $script:Steps $What $_.Exception.Message
        throw
    }
    if ($changed) {
        Say 'changed' $script:Steps
        Show $What
    } else { Say 'same' $script:Steps }
}

# A service that runs with older files begins again, also where this was cut in between.
function Set-Pending([string]$Service) {
    if ($Service) { Write-Text "$Folder\pending\$Service" '' }
}

# For the system and administrators alone (by their well-known SIDs).
function Protect-Folder([string]$Path) {
    $list = Get-Acl -LiteralPath $Path
    if ($list.AreAccessRulesProtected) { return $false }
    $list.SetAccessRuleProtection($true, $false)
    foreach ($sid in 'S-1-5-18', 'S-1-5-32-544') {
        $who = New-Object Security.Principal.SecurityIdentifier $sid
        $rule = New-Object Security.AccessControl.FileSystemAccessRule $who, 'FullControl', 'ContainerInherit,ObjectInherit', 'None', 'Allow'
        $list.AddAccessRule($rule)
    }
    Set-Acl -LiteralPath $Path -AclObject $list
    $true
}

function Invoke-Folder($Act) {
    $made = $false
    if (-not (Test-Path -LiteralPath $Act.path)) {
        [void](New-Item -ItemType Directory -Force -Path $Act.path)
        Add-Note 'folder' $Act.path ''
        $made = $true
    }
    if ($Act.private) { if (Protect-Folder $Act.path) { $made = $true } }
    $made
}

# What is there already is kept beside, the first time.
function Save-Before([string]$Kind, [string]$Path) {
    $before = ''
    if (Test-Path -LiteralPath $Path) {
        $before = "$Folder\before\$(Get-Sum (Get-Ascii $Path))"
        if (-not (Test-Path $before)) { Copy-Item -LiteralPath $Path -Destination $before }
    }
    Add-Note $Kind $Path $before
}

function Invoke-File($Act) {
    if ((Test-Path -LiteralPath $Act.path) -and [IO.File]::ReadAllText($Act.path) -ceq $Act.content) { return $false }
    Save-Before 'file' $Act.path
    Set-Pending $Act.restarts
    Write-Text $Act.path $Act.content
    $true
}

function Invoke-Program($Act) {
    $sum = { param($at) (Test-Path -LiteralPath $at) -and (Get-FileHash -Algorithm SHA256 -LiteralPath $at).Hash -eq $Act.sha256 }
    if (& $sum $Act.path) { return $false }
    $from = Join-Path (Join-Path $PSScriptRoot 'components') ($Act.from -replace '/', '\')
    if (-not (Test-Path -LiteralPath $from)) {
        if (-not $Act.web) { throw "$($Act.from) is not in the folder components beside the join file: carry that folder along" }
        $from = "$Folder\join\fetched"
        $ProgressPreference = 'SilentlyContinue'
        Invoke-WebRequest -UseBasicParsing -Uri "$($Act.web)/$($Act.from)" -OutFile $from
    }
    if (-not (& $sum $from)) { throw "$from is not the file that was pinned ($($Act.sha256))" }
    Save-Before 'file' $Act.path
    Set-Pending $Act.restarts
    # One that runs cannot be written, but stands aside.
    if (Test-Path -LiteralPath $Act.path) { Move-Item -LiteralPath $Act.path -Destination "$($Act.path).old" -Force }
    Copy-Item -LiteralPath $from -Destination $Act.path
    $true
}

function Invoke-Feature($Act) {
    $feature = Get-WindowsFeature -Name $Act.name
    if ($feature.Installed) { return $false }
    $done = Install-WindowsFeature -Name $Act.name
    Add-Note 'feature' $Act.name ''
    if ("$($done.RestartNeeded)" -ne 'No') { throw "the feature $($Act.name) counts from the next start on: restart this machine, and run this again" }
    $true
}

function Invoke-Port($Act) {
    $name = "zoisite-$($Act.name)"
    $protocol = if ($Act.udp) { 'UDP' } else { 'TCP' }
    $says = "zoisite: $protocol $($Act.port) from $($Act.from -join ' ')"
    $rule = Get-NetFirewallRule -Name $name -ErrorAction SilentlyContinue
    if ($rule -and $rule.Description -ceq $says -and "$($rule.Enabled)" -eq 'True') { return $false }
    if ($rule) { Remove-NetFirewallRule -Name $name }
    Add-Note 'port' $name ''
    [void](New-NetFirewallRule -Name $name -DisplayName $name -Description $says -Direction Inbound -Action Allow `
            -Protocol $protocol -LocalPort $Act.port -RemoteAddress $Act.from)
    $true
}

# The host's own network service, by its documented interface (computenetwork.dll).
function Get-Network([string]$Name) {
    foreach ($id in ([ZoisiteNetwork]::All() | ConvertFrom-Json)) {
        $found = [ZoisiteNetwork]::Read($id) | ConvertFrom-Json
        if ($found.Name -eq $Name) { return $found }
    }
}

function Get-Policies($Network, [string]$Type) {
    $all = $Network.PSObject.Properties['Policies']
    if ($all) { @($all.Value | Where-Object { $_.Type -eq $Type } | ForEach-Object { $_.Settings }) } else { @() }
}

function Invoke-Overlay($Act) {
    $changed = $false
    $prefix = $Act.subnet
    $network = Get-Network $Act.name
    if ($network -and @($network.Ipams | ForEach-Object { $_.Subnets } | ForEach-Object { $_.IpAddressPrefix }) -notcontains $prefix) {
        [ZoisiteNetwork]::Remove($network.ID)
        $network = $null
    }
    if (-not $network) {
        $card = @(Get-NetIPAddress -IPAddress $Act.address)[0].InterfaceAlias
        $isolation = @{ Type = 'VSID'; Settings = @{ IsolationId = $Act.identifier } }
        $route = @{ NextHop = $Act.gateway; DestinationPrefix = '0.0.0.0/0' }
        $subnet = @{ IpAddressPrefix = $prefix; Policies = @($isolation); Routes = @($route) }
        $wanted = @{
            SchemaVersion = @{ Major = 2; Minor = 0 }
            Name = $Act.name
            Type = 'Overlay'
            Ipams = @(@{ Type = 'Static'; Subnets = @($subnet) })
            Policies = @(@{ Type = 'NetAdapterName'; Settings = @{ NetworkAdapterName = $card } })
        }
        Add-Note 'network' $Act.name ''
        [ZoisiteNetwork]::Make(($wanted | ConvertTo-Json -Depth 10 -Compress))
        # The card's address moves to the switch that is made for it.
        $end = [DateTime]::UtcNow.AddSeconds(120)
        while (-not (Get-NetIPAddress -IPAddress $Act.address -ErrorAction SilentlyContinue)) {
            if ([DateTime]::UtcNow -gt $end) { throw "$($Act.address) did not come back after the network was made" }
            Start-Sleep -Seconds 1
        }
        $network = Get-Network $Act.name
        $changed = $true
    }
    $there = @(Get-Policies $network 'RemoteSubnetRoute')
    foreach ($remote in $Act.remotes) {
        $mac = ($remote.mac -replace ':', '-').ToUpperInvariant()
        $settings = @{ DestinationPrefix = $remote.subnet; IsolationId = $Act.identifier; ProviderAddress = $remote.address; DistributedRouterMacAddress = $mac }
        $own = @($there | Where-Object { $_.DestinationPrefix -eq $remote.subnet })
        $same = @($own | Where-Object { $_.ProviderAddress -eq $remote.address -and $_.DistributedRouterMacAddress -eq $mac })
        if ($same.Count -gt 0) { continue }
        foreach ($old in $own) { Edit-Route $network.ID 'Remove' $old }
        Edit-Route $network.ID 'Add' $settings
        $changed = $true
    }
    $wanted = @($Act.remotes | ForEach-Object { $_.subnet })
    foreach ($old in @($there | Where-Object { $wanted -notcontains $_.DestinationPrefix })) {
        Edit-Route $network.ID 'Remove' $old
        $changed = $true
    }
    $changed
}

function Edit-Route([string]$Id, [string]$Request, $Settings) {
    $change = @{ ResourceType = 'Policy'; RequestType = $Request; Settings = @{ Policies = @(@{ Type = 'RemoteSubnetRoute'; Settings = $Settings }) } }
    [ZoisiteNetwork]::Change($Id, ($change | ConvertTo-Json -Depth 10 -Compress))
}

# The kubelet's certificate, where it has one that has not ended.
function Get-Identity([string]$Identity) {
    $at = "$Identity\kubelet-client-current.pem"
    if (-not (Test-Path -LiteralPath $at)) { return $null }
    if ([IO.File]::ReadAllText($at) -match '(?s)-----BEGIN CERTIFICATE-----(.*?)-----END CERTIFICATE-----') {
        $certificate = New-Object Security.Cryptography.X509Certificates.X509Certificate2 (, [Convert]::FromBase64String($Matches[1]))
        if ($certificate.NotAfter.ToUniversalTime() -gt [DateTime]::UtcNow) { return $certificate }
    }
    $null
}

# Whether a certificate was signed by this key (its identifier, RFC 5280 section 4.2.1.1).
function Test-SignedBy($Certificate, [string]$Signs) {
    $by = $Certificate.Extensions | Where-Object { $_.Oid.Value -eq '2.5.29.35' }
    if (-not $by -or -not $Signs) { return $true }
    ([BitConverter]::ToString($by.RawData) -replace '-', '') -like "*$Signs*"
}

function Invoke-Token($Act) {
    $identity = Get-Identity $Act.identity
    if ($identity -and -not (Test-SignedBy $identity $Act.signs)) {
        # An authority gave it that goes.
        Remove-Item -LiteralPath "$($Act.identity)\kubelet-client-current.pem" -Force
        Set-Pending $Act.restarts
    }
    if (Get-Identity $Act.identity) {
        if (-not (Test-Path -LiteralPath $Act.path)) { return $false }
        Remove-Item -LiteralPath $Act.path -Force
        return $true
    }
    if ((Read-Text $Act.path) -ceq $Act.token) { return $false }
    Add-Note 'file' $Act.path ''
    Write-Text $Act.path "$($Act.token)`n"
    $true
}

function Invoke-Service($Act) {
    $changed = $false
    $there = Get-CimInstance Win32_Service -Filter "Name='$($Act.name)'"
    if ($there -and $there.PathName -cne $Act.command) {
        Stop-Service -Name $Act.name -Force
        [void](& sc.exe delete $Act.name)
        $there = $null
    }
    if (-not $there) {
        Add-Note 'service' $Act.name ''
        $new = @{ Name = $Act.name; DisplayName = $Act.name; BinaryPathName = $Act.command; StartupType = 'Automatic' }
        if ($Act.needs.Count -gt 0) { $new.DependsOn = [string[]]$Act.needs }
        [void](New-Service @new)
        [void](& sc.exe failure $Act.name reset= 86400 actions= restart/2000/restart/2000/restart/10000)
        $changed = $true
    }
    $pending = "$Folder\pending\$($Act.name)"
    if ("$((Get-Service -Name $Act.name).Status)" -ne 'Running') {
        Start-Service -Name $Act.name
        $changed = $true
    } elseif (Test-Path $pending) {
        Restart-Service -Name $Act.name -Force
        $changed = $true
    }
    if (Test-Path $pending) { Remove-Item $pending }
    $changed
}

# Takes everything back, in the other order; a folder that holds something else stays.
function Invoke-Uninstall {
    $notes = @(Get-Notes)
    [Array]::Reverse($notes)
    foreach ($note in $notes) {
        Step "take back $($note.kind) $($note.name)" {
            switch ($note.kind) {
                'service' {
                    Stop-Service -Name $note.name -Force -ErrorAction SilentlyContinue
                    [void](& sc.exe delete $note.name)
                }
                'port' { Remove-NetFirewallRule -Name $note.name -ErrorAction SilentlyContinue }
                'network' {
                    $network = Get-Network $note.name
                    if ($network) { [ZoisiteNetwork]::Remove($network.ID) }
                }
                'file' {
                    if ($note.before) { Copy-Item -LiteralPath $note.before -Destination $note.name -Force }
                    elseif (Test-Path -LiteralPath $note.name) { Remove-Item -LiteralPath $note.name -Force }
                }
                'folder' {
                    $left = @(Get-ChildItem -LiteralPath $note.name -Force -ErrorAction SilentlyContinue)
                    if ($left.Count -eq 0 -and (Test-Path -LiteralPath $note.name)) { Remove-Item -LiteralPath $note.name }
                }
            }
            $true
        }
    }
    if (Test-Path $Put) { Remove-Item $Put }
}

function Invoke-Acts($Opened) {
    foreach ($folder in 'before', 'pending') { [void](New-Item -ItemType Directory -Force -Path "$Folder\$folder") }
    foreach ($act in $Opened.acts) {
        $what = if ($act.PSObject.Properties['path']) { "$($act.do) $($act.path)" } elseif ($act.PSObject.Properties['name']) { "$($act.do) $($act.name)" } else { $act.do }
        if ($act.do -eq 'uninstall') { Invoke-Uninstall; continue }
        Step $what {
            switch ($act.do) {
                'feature' { Invoke-Feature $act }
                'folder' { Invoke-Folder $act }
                'file' { Invoke-File $act }
                'program' { Invoke-Program $act }
                'overlay' { Invoke-Overlay $act }
                'port' { Invoke-Port $act }
                'token' { Invoke-Token $act }
                'service' { Invoke-Service $act }
                default { throw "this join file does not know how to do '$($act.do)'" }
            }
        }
    }
}
