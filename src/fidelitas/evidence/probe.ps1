#Requires -Version 5.1
<#
The Fidelitas probe of a Windows machine: who administers it, and what runs on it with which rights.

    powershell -NoProfile -ExecutionPolicy Bypass -File probe.ps1 -OutFile avocet.tar

It changes nothing.  It reads the accounts and groups of the machine, user rights, services, scheduled tasks, access control lists of what
those run, a few values of the registry, who is logged on, and of the security log what concerns privilege; it writes OutFile, and one
temporary file that it deletes.  No password and no hash is read: of a password kept in the registry only that it is there.  Run it as an
administrator: what it may not read is listed in the manifest as a gap, as is what is left out at its limits: of time (Deadline, in
seconds), of paths and of bytes.  It opens nothing through a link and nothing on another machine: any account that may make a task could else have
an administrator log on to a server of theirs.

OutFile, or standard output for "-", is a tar archive with manifest.json first (docs/evidence-format.md); listings are JSON, one row a line.
#>
[CmdletBinding()]
param(
    [Parameter(Mandatory = $true)] [string] $OutFile,
    [int] $LogDays = 90,
    [int] $Deadline = 1800,
    [switch] $NoLogs
)

# A restricted PowerShell has none of what follows: it is said, and nothing is half read.
if ("$($ExecutionContext.SessionState.LanguageMode)" -ne 'FullLanguage') {
    Write-Error "this PowerShell runs in $($ExecutionContext.SessionState.LanguageMode): a policy restricts scripts here. Have the policy allow this script."
    exit 2
}
Set-StrictMode -Version 2.0
$ErrorActionPreference = 'Stop'
$ProbeVersion = 2
$Until = [datetime]::UtcNow.AddSeconds($Deadline)
# Of a listing; of all paths whose access is read.
$ListingLimit = 67108864
$PathLimit = 20000
$LogLimit = 33554432
$Utf8 = New-Object System.Text.UTF8Encoding($false)
$Invariant = [System.Globalization.CultureInfo]::InvariantCulture

$Members = New-Object System.Collections.ArrayList
$Listings = New-Object System.Collections.ArrayList
$Logs = New-Object System.Collections.ArrayList
$Gaps = New-Object System.Collections.ArrayList

# -- the frame: rows become listings, what fails becomes a gap --------------------------------------------------------------------------

function Add-Gap([string] $Path, [string] $Reason, [string] $Weakens = '') {
    $Gap = [ordered] @{ path = $Path; reason = ($Reason -replace '\s+', ' ').Trim() }
    if ($Weakens) { $Gap.weakens = $Weakens }
    [void] $Gaps.Add($Gap)
}

# Expressions for clear-text secrets in command lines and in events, each of two parts: what stands before, and the secret.
$Secrets = @(
@SECRETS@
) | ForEach-Object { New-Object System.Text.RegularExpressions.Regex($_, 'IgnoreCase, CultureInvariant', [timespan]::FromSeconds(2)) }

# A mask has as many bytes as what it hides.
$Mask = [System.Text.RegularExpressions.MatchEvaluator] {
    param($Found)
    $Size = $Utf8.GetByteCount($Found.Groups[2].Value)
    $Twos = @(0, 2, 1)[$Size % 3]
    if ($Size -lt 2) { return $Found.Groups[1].Value + '?' * $Size }
    return $Found.Groups[1].Value + ([string] [char] 0x2022) * (($Size - 2 * $Twos) / 3) + ([string] [char] 0xa4) * $Twos
}

# A text without secrets; nothing of one that takes too long.
function Hide-Secret([string] $Text) {
    try { foreach ($Pattern in $Secrets) { $Text = $Pattern.Replace($Text, $Mask) } }
    catch [System.Text.RegularExpressions.RegexMatchTimeoutException] { Add-Gap 'a command line' 'could not be masked in time: left out'; return '' }
    return $Text
}

function Get-Digest([byte[]] $Content) {
    $Algorithm = [System.Security.Cryptography.SHA256]::Create()
    try { return -join ($Algorithm.ComputeHash($Content) | ForEach-Object { $_.ToString('x2', $Invariant) }) }
    finally { $Algorithm.Dispose() }
}

function Add-Listing([string] $Name, [string] $Tool, [byte[]] $Content) {
    $Member = 'listings/{0:d4}' -f $Listings.Count
    [void] $Members.Add(@{ Name = $Member; Content = $Content })
    [void] $Listings.Add([ordered] @{ name = $Name; member = $Member; tool = $Tool; sha256 = (Get-Digest $Content) })
}

# Rows that a script block gives, one JSON object a line; where it fails, what it gave before counts and the failure is a gap.
function Add-Rows([string] $Name, [string] $Tool, [scriptblock] $Read) {
    $Text = New-Object System.Text.StringBuilder
    try {
        & $Read | ForEach-Object {
            if ([datetime]::UtcNow -gt $Until) { throw "the deadline of $Deadline seconds came first: the rest is not read" }
            if ($Text.Length -gt $ListingLimit) { throw "it is longer than $ListingLimit bytes: the rest is not read" }
            [void] $Text.Append((ConvertTo-Json -InputObject $_ -Compress -Depth 4)).Append("`n")
        }
    }
    catch { Add-Gap "listing $Name" $_.Exception.Message 'who holds rights on this machine' }
    Add-Listing $Name $Tool ($Utf8.GetBytes($Text.ToString()))
}

function ConvertTo-Stamp($Time) {
    if ($null -eq $Time) { return $null }
    return ([datetime] $Time).ToUniversalTime().ToString('yyyy-MM-ddTHH:mm:ssZ', $Invariant)
}

function ConvertTo-Sid([string] $Account) {
    if ($Account -match '^S-1-[0-9-]+$') { return $Account }
    if (-not $Account -or $Account -eq 'LocalSystem') { return $(if ($Account) { 'S-1-5-18' } else { $null }) }
    $Name = $Account -replace '^\.\\', "$env:COMPUTERNAME\"
    try { return (New-Object System.Security.Principal.NTAccount($Name)).Translate([System.Security.Principal.SecurityIdentifier]).Value }
    catch { return $null }
}

function ConvertFrom-Sid([string] $Sid) {
    try { return (New-Object System.Security.Principal.SecurityIdentifier($Sid)).Translate([System.Security.Principal.NTAccount]).Value }
    catch { return '' }
}

# -- who is who -------------------------------------------------------------------------------------------------------------------------

$Identity = [System.Security.Principal.WindowsIdentity]::GetCurrent()
$Elevated = (New-Object System.Security.Principal.WindowsPrincipal($Identity)).IsInRole([System.Security.Principal.WindowsBuiltInRole]::Administrator)
if (-not $Elevated) { Add-Gap 'user rights, services and logs' 'the probe does not run as an administrator' }

$System = Get-CimInstance -ClassName Win32_OperatingSystem
$Computer = Get-CimInstance -ClassName Win32_ComputerSystem
# 4 and 5 are domain controllers: their accounts and groups are the directory's.
$IsController = $Computer.DomainRole -ge 4

Add-Rows 'computer' 'Win32_ComputerSystem' {
    [ordered] @{
        name = $env:COMPUTERNAME; domain = [string] $Computer.Domain; joined = [bool] $Computer.PartOfDomain; controller = $IsController
        system = [string] $System.Caption; version = [string] $System.Version; elevated = $Elevated
    }
}

if ($IsController) { Add-Gap 'local accounts' 'this is a domain controller: survey the directory instead' }
else {
    Add-Rows 'local-accounts' 'Win32_UserAccount' {
        foreach ($Account in Get-CimInstance -ClassName Win32_UserAccount -Filter 'LocalAccount=True') {
            $Expires = $null; $LastLogOn = $null
            $Entry = [ADSI] "WinNT://$env:COMPUTERNAME/$($Account.Name),user"
            try { $Expires = ConvertTo-Stamp $Entry.InvokeGet('AccountExpirationDate') } catch { $Expires = $null }
            try { $LastLogOn = ConvertTo-Stamp $Entry.InvokeGet('LastLogin') } catch { $LastLogOn = $null }
            [ordered] @{
                name = $Account.Name; sid = $Account.SID; disabled = [bool] $Account.Disabled; locked = [bool] $Account.Lockout
                password_required = [bool] $Account.PasswordRequired; password_never_expires = -not [bool] $Account.PasswordExpires
                expires = $Expires; last_log_on = $LastLogOn; description = [string] $Account.Description
            }
        }
    }
}

$LocalGroups = @(Get-CimInstance -ClassName Win32_Group -Filter 'LocalAccount=True')
Add-Rows 'local-groups' 'Win32_Group' {
    foreach ($Group in $LocalGroups) { [ordered] @{ name = $Group.Name; sid = $Group.SID; description = [string] $Group.Description } }
}

# By ADSI and not by Get-LocalGroupMember, which gives up on a group that holds a SID without an account.
Add-Rows 'local-members' 'WinNT provider' {
    foreach ($Group in $LocalGroups) {
        try { $Held = @(([ADSI] "WinNT://$env:COMPUTERNAME/$($Group.Name),group").Invoke('Members')) }
        catch { Add-Gap "members of $($Group.Name)" $_.Exception.Message; continue }
        foreach ($One in $Held) {
            $Bytes = [byte[]] $One.GetType().InvokeMember('objectSid', 'GetProperty', $null, $One, $null)
            $Sid = (New-Object System.Security.Principal.SecurityIdentifier($Bytes, 0)).Value
            $Class = [string] $One.GetType().InvokeMember('Class', 'GetProperty', $null, $One, $null)
            [ordered] @{ group_sid = $Group.SID; group = $Group.Name; sid = $Sid; name = (ConvertFrom-Sid $Sid); kind = $Class.ToLowerInvariant() }
        }
    }
}

# -- user rights ------------------------------------------------------------------------------------------------------------------------

$Private = Join-Path ([System.IO.Path]::GetTempPath()) ([guid]::NewGuid().ToString())
$Export = Join-Path $Private 'rights.inf'
try {
    [void] [System.IO.Directory]::CreateDirectory($Private)
    & "$env:SystemRoot\System32\secedit.exe" /export /cfg $Export /areas USER_RIGHTS /quiet | Out-Null
    if ($LASTEXITCODE -ne 0) { throw "secedit.exe ended with status $LASTEXITCODE" }
    Add-Listing 'user-rights' 'secedit /export /areas USER_RIGHTS' ([System.IO.File]::ReadAllBytes($Export))
}
catch { Add-Gap 'listing user-rights' $_.Exception.Message 'who has user rights' }
finally { Remove-Item -LiteralPath $Private -Recurse -Force -ErrorAction SilentlyContinue }

# -- what runs, and from where ----------------------------------------------------------------------------------------------------------

$Wanted = New-Object 'System.Collections.Generic.SortedSet[string]'([System.StringComparer]::OrdinalIgnoreCase)

# A path of this machine's disks, and all folders that it is in.
function Add-Path([string] $Path) {
    $Path = $Path.Replace('/', '\')
    if ($Path -notmatch '^[A-Za-z]:\\' -or $Path.Length -gt 1024) { return }
    if ($Path.IndexOfAny([System.IO.Path]::GetInvalidPathChars()) -ge 0) { return }
    [void] $Wanted.Add($Path)
    for ($At = $Path.LastIndexOf('\'); $At -gt 2; $At = $Path.LastIndexOf('\', $At - 1)) { [void] $Wanted.Add($Path.Substring(0, $At)) }
    [void] $Wanted.Add($Path.Substring(0, 3))
}

# Every path that CreateProcess tries for a command line, and every one that its arguments name.
function Add-Wanted([string] $Command) {
    $Text = $Command.Trim()
    $Tried = @()
    if ($Text.StartsWith('"')) { $Tried = @($Text.Substring(1).Split('"')[0]) }
    else {
        $Words = $Text.Split(' ')
        for ($Last = 0; $Last -lt [Math]::Min($Words.Length, 60); $Last++) { $Tried += ($Words[0..$Last] -join ' ') }
    }
    foreach ($Path in $Tried) {
        if ($Path -notmatch '\.\w{1,4}$') { $Path += '.exe' }
        Add-Path $Path
    }
    $Named = [regex]::Matches($Text, '["'']([A-Za-z]:[\\/][^"''|<>*?]+)["'']|(?<![\w\\/])([A-Za-z]:[\\/][^\s"''|<>*?;&,]+)')
    foreach ($One in @($Named) | Select-Object -First 20) { Add-Path ($One.Groups[1].Value + $One.Groups[2].Value) }
}

# The variables of a profile are those of the account that a task runs as, never those of the account that runs this.
$ProfileList = 'SOFTWARE\Microsoft\Windows NT\CurrentVersion\ProfileList'
function Expand-For([string] $Text, [string] $Sid) {
    if ($Text -match '%(USERPROFILE|APPDATA|LOCALAPPDATA|TEMP|TMP|HOMEPATH|USERNAME)%') {
        $Home_ = $null
        if ($Sid) {
            $Key = [Microsoft.Win32.Registry]::LocalMachine.OpenSubKey("$ProfileList\$Sid")
            if ($null -ne $Key) { $Home_ = [string] $Key.GetValue('ProfileImagePath'); $Key.Dispose() }
        }
        if (-not $Home_) { Add-Gap $Text 'is in a profile of an account that has none here, or of several: not read' 'who can replace what runs'; return '' }
        $Text = $Text -ireplace '%LOCALAPPDATA%', "$Home_\AppData\Local" -ireplace '%APPDATA%', "$Home_\AppData\Roaming" -ireplace '%USERPROFILE%', $Home_ -ireplace '%(TEMP|TMP)%', "$Home_\AppData\Local\Temp"
    }
    return [System.Environment]::ExpandEnvironmentVariables($Text)
}

# The keys that say what a service runs, each with who may change it; the library that svchost loads for it; what runs when it fails.
function Get-ServiceKeys([string] $Name) {
    $Base = "SYSTEM\CurrentControlSet\Services\$Name"
    foreach ($Path in @($Base, "$Base\Parameters")) {
        $Key = $null
        try {
            $Key = [Microsoft.Win32.Registry]::LocalMachine.OpenSubKey($Path, [Microsoft.Win32.RegistryKeyPermissionCheck]::Default, [System.Security.AccessControl.RegistryRights]::ReadKey)
            if ($null -ne $Key) { [ordered] @{ path = "HKLM\$Path"; sddl = $Key.GetAccessControl().GetSecurityDescriptorSddlForm('Owner, Access') } }
        }
        catch { Add-Gap "HKLM\$Path" $_.Exception.Message 'who can change what the service runs' }
        finally { if ($null -ne $Key) { $Key.Dispose() } }
    }
}
function Get-ServiceValue([string] $Path, [string] $Name) {
    $Key = $null
    try {
        $Key = [Microsoft.Win32.Registry]::LocalMachine.OpenSubKey("SYSTEM\CurrentControlSet\Services\$Path")
        if ($null -eq $Key) { return '' }
        return [string] $Key.GetValue($Name)
    }
    catch { return '' }
    finally { if ($null -ne $Key) { $Key.Dispose() } }
}

Add-Rows 'services' 'Win32_Service' {
    foreach ($Service in Get-CimInstance -ClassName Win32_Service) {
        $Command = [System.Environment]::ExpandEnvironmentVariables([string] $Service.PathName)
        $Library = Get-ServiceValue "$($Service.Name)\Parameters" 'ServiceDll'
        if (-not $Library) { $Library = Get-ServiceValue $Service.Name 'ServiceDll' }
        $Failure = Get-ServiceValue $Service.Name 'FailureCommand'
        Add-Wanted $Command
        Add-Path $Library
        Add-Wanted $Failure
        $Shown = & "$env:SystemRoot\System32\sc.exe" sdshow $Service.Name
        $Sddl = ($Shown | Where-Object { $_ -match '^[OGDS]:' }) -join ''
        [ordered] @{
            name = $Service.Name; account = [string] $Service.StartName; sid = (ConvertTo-Sid ([string] $Service.StartName)); command = (Hide-Secret $Command)
            enabled = ($Service.StartMode -ne 'Disabled'); state = [string] $Service.State; sddl = $Sddl
            library = $Library; failure_command = (Hide-Secret $Failure); keys = @(Get-ServiceKeys $Service.Name)
        }
    }
}

Add-Rows 'tasks' 'Get-ScheduledTask' {
    foreach ($Task in Get-ScheduledTask) {
        $Account = [string] $Task.Principal.UserId
        if (-not $Account) { $Account = [string] $Task.Principal.GroupId }
        $Sid = ConvertTo-Sid $Account
        foreach ($Action in @($Task.Actions | Where-Object { $_.PSObject.Properties['Execute'] })) {
            $Program = (Expand-For ([string] $Action.Execute) $Sid).Trim('"')
            $Command = "`"$Program`" $(Expand-For ([string] $Action.Arguments) $Sid)".Trim()
            Add-Wanted $Command
            [ordered] @{
                name = "$($Task.TaskPath)$($Task.TaskName)"; account = $Account; sid = $Sid
                command = (Hide-Secret $Command); enabled = ([string] $Task.State -ne 'Disabled')
                run_level = [string] $Task.Principal.RunLevel; sddl = [string] $Task.SecurityDescriptor
            }
        }
    }
}

# Whether a path is on a disk of this machine, and goes through no link.
function Test-Local([string] $Path) {
    try {
        if ((New-Object System.IO.DriveInfo($Path.Substring(0, 1))).DriveType -ne [System.IO.DriveType]::Fixed) { return $false }
        $At = 3
        while ($At -ge 3 -and $At -le $Path.Length) {
            $Next = $Path.IndexOf('\', $At)
            if ($Next -lt 0) { $Next = $Path.Length }
            if ([System.IO.File]::GetAttributes($Path.Substring(0, $Next)) -band [System.IO.FileAttributes]::ReparsePoint) { return $false }
            $At = $Next + 1
        }
        return $true
    }
    # What is not there is no link.
    catch [System.IO.FileNotFoundException], [System.IO.DirectoryNotFoundException] { return $true }
    catch { return $false }
}

if ($Wanted.Count -gt $PathLimit) { Add-Gap 'access' "there are more than $PathLimit paths of programs: the rest is not read" 'who can replace what runs' }
Add-Rows 'access' 'Get-Acl' {
    foreach ($Path in $Wanted | Select-Object -First $PathLimit) {
        if (-not (Test-Local $Path)) { Add-Gap $Path 'is on another machine, or goes through a link: not read' 'who can replace what runs'; continue }
        $Item = Get-Item -LiteralPath $Path -Force -ErrorAction SilentlyContinue
        $Sddl = ''
        if ($null -ne $Item) {
            try { $Sddl = (Get-Acl -LiteralPath $Path).Sddl } catch { Add-Gap $Path $_.Exception.Message }
        }
        [ordered] @{ path = $Path; exists = ($null -ne $Item); folder = ($null -ne $Item -and $Item.PSIsContainer); sddl = $Sddl }
    }
}

# -- settings ---------------------------------------------------------------------------------------------------------------------------

$PolicyKey = 'SOFTWARE\Microsoft\Windows\CurrentVersion\Policies\System'
$LogOnKey = 'SOFTWARE\Microsoft\Windows NT\CurrentVersion\Winlogon'
$InstallerKey = 'SOFTWARE\Policies\Microsoft\Windows\Installer'
$Asked = @(
    @($PolicyKey, 'EnableLUA'), @($PolicyKey, 'ConsentPromptBehaviorAdmin'), @($PolicyKey, 'FilterAdministratorToken'),
    @($PolicyKey, 'LocalAccountTokenFilterPolicy'), @($InstallerKey, 'AlwaysInstallElevated'), @($LogOnKey, 'AutoAdminLogon'),
    @($LogOnKey, 'DefaultUserName'), @($LogOnKey, 'DefaultPassword')
)
Add-Rows 'settings' 'registry' {
    foreach ($One in $Asked) {
        $Key = [Microsoft.Win32.Registry]::LocalMachine.OpenSubKey($One[0])
        if ($null -eq $Key) { continue }
        $Value = $Key.GetValue($One[1])
        $Key.Dispose()
        if ($null -eq $Value -or "$Value" -eq '') { continue }
        # That a password lies there is all that anyone needs to know.
        if ($One[1] -eq 'DefaultPassword') { $Value = '{kept}' }
        [ordered] @{ key = "HKLM\$($One[0])"; name = $One[1]; value = "$Value" }
    }
}

# -- who is logged on -------------------------------------------------------------------------------------------------------------------

Add-Rows 'sessions' 'Win32_LogonSession' {
    $Sessions = @{}
    Get-CimInstance -ClassName Win32_LogonSession | ForEach-Object { $Sessions[[string] $_.LogonId] = $_ }
    foreach ($Pair in Get-CimInstance -ClassName Win32_LoggedOnUser) {
        $Session = $Sessions[[string] $Pair.Dependent.LogonId]
        if ($null -eq $Session -or @(2, 3, 7, 10, 11) -notcontains $Session.LogonType) { continue }
        $Account = "$($Pair.Antecedent.Domain)\$($Pair.Antecedent.Name)"
        $Sid = ConvertTo-Sid $Account
        if ($null -eq $Sid -or $Sid -notmatch '^S-1-5-21-') { continue }
        [ordered] @{ account = $Account; sid = $Sid; kind = [int] $Session.LogonType; since = (ConvertTo-Stamp $Session.StartTime); id = [string] $Session.LogonId }
    }
}

# -- the security log: what concerns privilege, an event a line -------------------------------------------------------------------------

# A query has room for some twenty comparisons.
$Numbers = 'EventID=1102 or EventID=4624 or EventID=4625 or EventID=4634 or EventID=4647 or EventID=4648 or EventID=4672 or EventID=4688 or ' +
    '(EventID>=4697 and EventID<=4702) or (EventID>=4704 and EventID<=4707) or EventID=4713 or (EventID>=4716 and EventID<=4767) or EventID=4781'
# What was typed for the name of an account at a failed log-on may be a password, where there is no such account.
$Typed = New-Object System.Text.RegularExpressions.Regex('(<Data Name=.TargetUserName.>)([^<]+)')
$NoSuchName = '<EventID[^>]*>4625<.*SubStatus.>0xc00000(?:64|6d)<|<EventID[^>]*>4625<.*[^b]Status.>0xc00000(?:64|6d)<.*SubStatus.>0x0<'

$PartLimit = 1048576
function New-LogPart {
    $Packed = New-Object System.IO.MemoryStream
    $Writer = New-Object System.IO.StreamWriter((New-Object System.IO.Compression.GZipStream($Packed, [System.IO.Compression.CompressionMode]::Compress, $true)), $Utf8)
    $Writer.NewLine = "`n"
    return @{ Packed = $Packed; Writer = $Writer; Lines = 0; Begins = ''; Ends = ''; Content = $null }
}

# Each part is a whole gzip member: one after the other they are a file of gzip (RFC 1952 2.2).
function Close-LogPart($Part, $Parts) {
    $Part.Writer.Dispose()
    $Part.Content = $Part.Packed.ToArray()
    [void] $Parts.Enqueue($Part)
    return $Part.Content.Length
}

function Add-SecurityLog {
    $Span = [int64] $LogDays * 86400000
    $Query = New-Object System.Diagnostics.Eventing.Reader.EventLogQuery('Security', [System.Diagnostics.Eventing.Reader.PathType]::LogName,
        "*[System[($Numbers) and TimeCreated[timediff(@SystemTime) <= $Span]]]")
    $Reader = New-Object System.Diagnostics.Eventing.Reader.EventLogReader($Query)
    # Packed in parts, of which the oldest go where all are too large: what counts is what happened last.
    $Parts = New-Object System.Collections.Generic.Queue[object]
    $Total = 0; $Dropped = $false
    $Part = New-LogPart
    while ($null -ne ($Event_ = $Reader.ReadEvent())) {
        $Line = Hide-Secret ($Event_.ToXml() -replace "`r?`n", '&#10;')
        if ($Line -match $NoSuchName) { $Line = $Typed.Replace($Line, $Mask) }
        $Part.Writer.WriteLine($Line)
        $Part.Lines++
        $Part.Ends = ConvertTo-Stamp $Event_.TimeCreated
        if (-not $Part.Begins) { $Part.Begins = $Part.Ends }
        $Event_.Dispose()
        if ($Part.Packed.Length -gt $PartLimit) { $Total += (Close-LogPart $Part $Parts); $Part = New-LogPart }
        while ($Total -gt $LogLimit) { $Total -= $Parts.Dequeue().Content.Length; $Dropped = $true }
        if ([datetime]::UtcNow -gt $Until) { Add-Gap 'Security.xml' "the deadline of $Deadline seconds came first: it ends at $($Part.Ends)" 'who used privileges'; break }
    }
    if ($Part.Lines) { [void] (Close-LogPart $Part $Parts) }
    $Kept = @($Parts.ToArray())
    $Begins = ''; $Ends = ''; $Count = 0
    $Whole = New-Object System.IO.MemoryStream
    foreach ($One in $Kept) {
        $Whole.Write($One.Content, 0, $One.Content.Length)
        $Count += $One.Lines; $Ends = $One.Ends
        if (-not $Begins) { $Begins = $One.Begins }
    }
    if ($Dropped) { Add-Gap 'Security.xml' "the log is larger than $LogLimit bytes packed: it begins at $Begins" 'who used privileges' }
    $Content = $Whole.ToArray()
    $Member = 'logs/Security.xml.gz'
    [void] $Members.Add(@{ Name = $Member; Content = $Content })
    [void] $Logs.Add([ordered] @{ path = 'Security.xml'; member = $Member; lines = $Count; kept = $Count; begins = $Begins; ends = $Ends; sha256 = (Get-Digest $Content) })
}

if (-not $NoLogs) {
    try { Add-SecurityLog } catch { Add-Gap 'Security.xml' $_.Exception.Message 'who used privileges' }
}

# -- the archive: POSIX ustar, manifest first -------------------------------------------------------------------------------------------

# What tells this machine from another of its name: a digest, which tells nothing else.
$Machine = $null
try {
    $Guid = [string] [Microsoft.Win32.Registry]::LocalMachine.OpenSubKey('SOFTWARE\Microsoft\Cryptography').GetValue('MachineGuid')
    if ($Guid) { $Machine = Get-Digest ($Utf8.GetBytes("fidelitas machine $($Guid.ToLowerInvariant())")) }
}
catch { Add-Gap 'MachineGuid' $_.Exception.Message 'whether this is the machine that had this name before' }

$Manifest = [ordered] @{
    format = 'fidelitas-evidence'; version = 1; platform = 'windows'; subject = $env:COMPUTERNAME.ToLowerInvariant()
    kernel = "Windows $($System.Version)"; live = $true; probe = $ProbeVersion; taken = (ConvertTo-Stamp ([datetime]::UtcNow))
    uid = $(if ($Elevated) { 0 } else { 65534 }); addresses = $null; machine = $Machine; host_keys = @(); items = @(); listings = @($Listings); zone = ''; logs = @($Logs); gaps = @($Gaps)
}
$First = @{ Name = 'manifest.json'; Content = $Utf8.GetBytes((ConvertTo-Json -InputObject $Manifest -Depth 5)) }
$Seconds = [int64] ([datetime]::UtcNow - (New-Object datetime(1970, 1, 1, 0, 0, 0, ([System.DateTimeKind]::Utc)))).TotalSeconds

function Get-Header([string] $Name, [int64] $Size) {
    $Header = New-Object byte[] 512
    function Set-Field([int] $At, [string] $Text) { [void] [System.Text.Encoding]::ASCII.GetBytes($Text, 0, $Text.Length, $Header, $At) }
    Set-Field 0 $Name
    Set-Field 100 '0000644'
    Set-Field 108 '0000000'
    Set-Field 116 '0000000'
    Set-Field 124 ([System.Convert]::ToString($Size, 8).PadLeft(11, '0'))
    Set-Field 136 ([System.Convert]::ToString($Seconds, 8).PadLeft(11, '0'))
    Set-Field 148 '        '
    Set-Field 156 '0'
    Set-Field 257 'ustar'
    Set-Field 263 '00'
    $Sum = 0
    foreach ($Byte in $Header) { $Sum += $Byte }
    Set-Field 148 ([System.Convert]::ToString($Sum, 8).PadLeft(6, '0') + [char] 0 + ' ')
    return , $Header
}

if ($OutFile -eq '-') { $Target = 'standard output'; $Stream = [Console]::OpenStandardOutput() }
else {
    $Target = $ExecutionContext.SessionState.Path.GetUnresolvedProviderPathFromPSPath($OutFile)
    $Stream = [System.IO.File]::Create($Target)
}
try {
    foreach ($Member in @($First) + @($Members)) {
        $Content = [byte[]] $Member.Content
        $Stream.Write((Get-Header $Member.Name $Content.LongLength), 0, 512)
        $Stream.Write($Content, 0, $Content.Length)
        $Padding = (512 - $Content.LongLength % 512) % 512
        if ($Padding) { $Stream.Write((New-Object byte[] $Padding), 0, $Padding) }
    }
    $Stream.Write((New-Object byte[] 1024), 0, 1024)
}
finally { $Stream.Dispose() }
Write-Verbose "$($Listings.Count) listings, $($Gaps.Count) gaps: $Target"
