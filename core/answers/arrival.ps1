# Tells the service that this computer has started for the first time, and removes what was
# written for that, whatever comes of it. While nobody answers it tries again, for an hour.

$ErrorActionPreference = 'Stop'
$here = Split-Path -Parent -Path $MyInvocation.MyCommand.Path
$until = (Get-Date).AddHours(1)

function Get-Report {
    $system = Get-CimInstance -ClassName Win32_OperatingSystem
    $current = Get-ItemProperty -Path 'HKLM:\SOFTWARE\Microsoft\Windows NT\CurrentVersion'
    $cards = @(Get-CimInstance -ClassName Win32_NetworkAdapterConfiguration -Filter 'IPEnabled = TRUE')
    return @{
        computer_name      = [System.Net.Dns]::GetHostName()
        hardware_addresses = @($cards | ForEach-Object { $_.MACAddress })
        ip_addresses       = @($cards | ForEach-Object { $_.IPAddress })
        machine_id         = (Get-ItemProperty -Path 'HKLM:\SOFTWARE\Microsoft\Cryptography').MachineGuid
        operating_system   = '{0} (build {1}.{2})' -f $system.Caption, $system.BuildNumber, $current.UBR
        kernel             = $system.Version
        uptime_seconds     = ((Get-Date) - $system.LastBootUpTime).TotalSeconds
    }
}

Set-Location -LiteralPath $here
do {
    $status = '000'
    try {
        # Without a byte order mark, which Set-Content would write.
        [System.IO.File]::WriteAllText((Join-Path -Path $here -ChildPath 'report.json'), (Get-Report | ConvertTo-Json -Compress))
        $status = & "$env:SystemRoot\System32\curl.exe" --config arrival.curl
    } catch {
        Write-Output $_
    }
    if ($status -match '^[24]') { break } # it was taken, or will never be
    Start-Sleep -Seconds 10
} while ((Get-Date) -lt $until)

schtasks.exe /delete /tn 'Jugate arrival' /f
Set-Location -LiteralPath "$env:SystemDrive\"
Remove-Item -LiteralPath $here -Recurse -Force
