package testkit

import (
	"fmt"
	"strings"
	"testing"

	"lockback/core/format/regf"
)

// What a plain Windows 10 of today starts by itself, under its real names, as far as it is known from
// published lists of its services, drivers and tasks; no real disk was at hand. All of it is enabled, there,
// without a problem, and a part of the system.

// ownServices are the services: name, start type, program, and the library of those that a host runs.
const ownServices = `
RpcSs|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\rpcss.dll
DcomLaunch|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\rpcss.dll
RpcEptMapper|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\RpcEpMap.dll
BrokerInfrastructure|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\psmsrv.dll
LSM|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\lsm.dll
PlugPlay|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\umpnpmgr.dll
Power|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\umpo.dll
SamSs|2|%SystemRoot%\System32\lsass.exe|
EventLog|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\wevtsvc.dll
EventSystem|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\es.dll
Schedule|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\schedsvc.dll
SystemEventsBroker|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\SystemEventsBrokerServer.dll
CoreMessagingRegistrar|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\coremessaging.dll
CryptSvc|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\cryptsvc.dll
gpsvc|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\gpsvc.dll
ProfSvc|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\profsvc.dll
UserManager|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\usermgr.dll
StateRepository|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\windows.staterepository.dll
AppXSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\appxdeploymentserver.dll
ClipSVC|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\ClipSVC.dll
LicenseManager|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\LicenseManagerSvc.dll
sppsvc|2|%SystemRoot%\System32\sppsvc.exe|
TrustedInstaller|3|%SystemRoot%\servicing\TrustedInstaller.exe|
Winmgmt|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\wbem\WMIsvc.dll
SENS|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\Sens.dll
TimeBrokerSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\TimeBrokerServer.dll
SysMain|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\sysmain.dll
KeyIso|3|%SystemRoot%\System32\lsass.exe|
VaultSvc|3|%SystemRoot%\System32\lsass.exe|
Dhcp|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\dhcpcore.dll
Dnscache|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\dnsrslvr.dll
NlaSvc|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\nlasvc.dll
netprofm|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\netprofmsvc.dll
nsi|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\nsisvc.dll
LanmanWorkstation|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\wkssvc.dll
LanmanServer|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\srvsvc.dll
WlanSvc|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\wlansvc.dll
WwanSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\wwansvc.dll
dot3svc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\dot3svc.dll
NcbService|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\ncbservice.dll
Netman|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\netman.dll
iphlpsvc|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\iphlpsvc.dll
WinHttpAutoProxySvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\winhttp.dll
lmhosts|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\lmhsvc.dll
BFE|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\bfe.dll
IKEEXT|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\ikeext.dll
PolicyAgent|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\ipsecsvc.dll
RasMan|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\rasmans.dll
SstpSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\sstpsvc.dll
RasAuto|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\rasauto.dll
RemoteAccess|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\mprdim.dll
EapHost|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\eapsvc.dll
Wcmsvc|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\wcmsvc.dll
icssvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\tetheringservice.dll
NcaSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\ncasvc.dll
NcdAutoSetup|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\NcdAutoSetup.dll
WebClient|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\webclnt.dll
SharedAccess|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\ipnathlp.dll
wcncsvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\wcncsvc.dll
SSDPSRV|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\ssdpsrv.dll
upnphost|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\upnphost.dll
fdPHost|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\fdPHost.dll
FDResPub|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\fdrespub.dll
HomeGroupListener|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\ListSvc.dll
HomeGroupProvider|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\provsvc.dll
p2pimsvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\pnrpsvc.dll
p2psvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\p2psvc.dll
PNRPsvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\pnrpsvc.dll
PNRPAutoReg|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\pnrpauto.dll
NetSetupSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\NetSetupSvc.dll
NetTcpPortSharing|3|%systemroot%\Microsoft.NET\Framework64\v4.0.30319\SMSvcHost.exe|
Netlogon|3|%SystemRoot%\System32\lsass.exe|
lltdsvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\lltdsvc.dll
mpssvc|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\mpssvc.dll
WinDefend|2|"C:\ProgramData\Microsoft\Windows Defender\Platform\4.18.24010.12-0\MsMpEng.exe"|
WdNisSvc|3|"C:\ProgramData\Microsoft\Windows Defender\Platform\4.18.24010.12-0\NisSrv.exe"|
MDCoreSvc|3|"C:\ProgramData\Microsoft\Windows Defender\Platform\4.18.24010.12-0\MpDefenderCoreService.exe"|
SecurityHealthService|2|%SystemRoot%\System32\SecurityHealthService.exe|
wscsvc|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\wscsvc.dll
Sense|3|"%ProgramFiles%\Windows Defender Advanced Threat Protection\MsSense.exe"|
webthreatdefsvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\webthreatdefsvc.dll
webthreatdefusersvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\webthreatdefusersvc.dll
hidserv|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\hidserv.dll
TabletInputService|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\TabSvc.dll
TextInputManagementService|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\TabSvc.dll
DeviceInstall|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\umpnpmgr.dll
DsmSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\DeviceSetupManager.dll
DeviceAssociationService|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\das.dll
DeviceAssociationBrokerSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\deviceaccess.dll
bthserv|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\bthserv.dll
BTAGService|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\BTAGService.dll
BthAvctpSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\BthAvctpSvc.dll
BluetoothUserService|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\Microsoft.Bluetooth.UserService.dll
StiSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\wiaservc.dll
WiaRpc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\wiarpc.dll
WPDBusEnum|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\wpdbusenum.dll
PenService|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\PenService.dll
Themes|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\themeservice.dll
UxSms|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\uxsms.dll
FontCache|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\FntCache.dll
FontCache3.0.0.0|3|%systemroot%\Microsoft.Net\Framework64\v3.0\WPF\PresentationFontCache.exe|
WPFFontCache_v0400|3|%systemroot%\Microsoft.NET\Framework64\v4.0.30319\WPF\WPFFontCache_v0400.exe|
DispBrokerDesktopSvc|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\DispBroker.Desktop.dll
GraphicsPerfSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\GraphicsPerfSvc.dll
DisplayEnhancementService|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\Microsoft.Graphics.Display.DisplayEnhancementService.dll
Audiosrv|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\Audiosrv.dll
AudioEndpointBuilder|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\AudioEndpointBuilder.dll
QWAVE|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\qwave.dll
VSS|3|%SystemRoot%\System32\vssvc.exe|
swprv|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\swprv.dll
vds|3|%SystemRoot%\System32\vds.exe|
defragsvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\defragsvc.dll
StorSvc|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\storsvc.dll
WSearch|2|%SystemRoot%\System32\SearchIndexer.exe|
EFS|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\efssvc.dll
BDESVC|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\bdesvc.dll
fhsvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\fhsvc.dll
SDRSVC|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\SDRSVC.dll
wbengine|3|%SystemRoot%\System32\wbengine.exe|
smphost|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\smphost.dll
TieringEngineService|3|%SystemRoot%\System32\TieringEngineService.exe|
MSiSCSI|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\iscsiexe.dll
CscService|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\cscsvc.dll
TrkWks|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\trkwks.dll
AJRouter|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\AJRouter.dll
ALG|3|%SystemRoot%\System32\alg.exe|
AppIDSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\appidsvc.dll
Appinfo|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\appinfo.dll
AppMgmt|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\appmgmts.dll
AppReadiness|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\AppReadiness.dll
AppVClient|3|%SystemRoot%\System32\AppVClient.exe|
aspnet_state|3|%SystemRoot%\Microsoft.NET\Framework64\v4.0.30319\aspnet_state.exe|
AssignedAccessManagerSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\assignedaccessmanagersvc.dll
autotimesvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\autotimesvc.dll
tzautoupdate|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\tzautoupdate.dll
AxInstSV|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\AxInstSV.dll
BcastDVRUserService|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\BcastDVRUserService.dll
BITS|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\qmgr.dll
CDPSvc|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\cdpsvc.dll
CDPUserSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\CDPUserSvc.dll
CaptureService|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\CaptureService.dll
CertPropSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\certprop.dll
cbdhsvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\cbdhsvc.dll
cloudidsvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\cloudidsvc.dll
COMSysApp|3|%SystemRoot%\System32\dllhost.exe|
ConsentUxUserSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\ConsentUxClient.dll
CredentialEnrollmentManagerUserSvc|3|%SystemRoot%\System32\CredentialEnrollmentManager.exe|
DevQueryBroker|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\DevQueryBroker.dll
DevicePickerUserSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\Windows.Devices.Picker.dll
DevicesFlowUserSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\DevicesFlowBroker.dll
diagsvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\DiagSvc.dll
diagnosticshub.standardcollector.service|3|%SystemRoot%\System32\DiagnosticsHub.StandardCollector.Service.exe|
DiagTrack|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\diagtrack.dll
DialogBlockingService|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\DialogBlockingService.dll
dmwappushservice|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\dmwappushsvc.dll
DmEnrollmentSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\Windows.Internal.Management.dll
DoSvc|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\dosvc.dll
DPS|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\dps.dll
DusmSvc|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\dusmsvc.dll
embeddedmode|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\embeddedmodesvc.dll
EntAppSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\EnterpriseAppMgmtSvc.dll
Fax|3|%SystemRoot%\System32\fxssvc.exe|
FrameServer|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\FrameServer.dll
FrameServerMonitor|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\FrameServerMonitor.dll
GameInputSvc|3|%SystemRoot%\System32\GameInputSvc.exe|
HvHost|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\hvhostsvc.dll
InstallService|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\InstallService.dll
InventorySvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\inventorysvc.dll
IpxlatCfgSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\IpxlatCfg.dll
KtmRm|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\msdtckrm.dll
lfsvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\lfsvc.dll
LxpSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\LanguageOverlayServer.dll
MapsBroker|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\moshost.dll
MessagingService|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\MessagingService.dll
MicrosoftEdgeElevationService|3|"C:\Program Files (x86)\Microsoft\Edge\Application\120.0.2210.91\elevation_service.exe"|
edgeupdate|2|"C:\Program Files (x86)\Microsoft\EdgeUpdate\MicrosoftEdgeUpdate.exe"|
edgeupdatem|3|"C:\Program Files (x86)\Microsoft\EdgeUpdate\MicrosoftEdgeUpdate.exe"|
MixedRealityOpenXRSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\MixedRealityRuntime.dll
SharedRealitySvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\SharedRealitySvc.dll
spectrum|3|%SystemRoot%\System32\spectrum.exe|
perceptionsimulation|3|%windir%\system32\PerceptionSimulation\PerceptionSimulationService.exe|
MSDTC|3|%SystemRoot%\System32\msdtc.exe|
msiserver|3|%SystemRoot%\System32\msiexec.exe|
NaturalAuthentication|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\NaturalAuth.dll
NgcSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\ngcsvc.dll
NgcCtnrSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\NgcCtnrSvc.dll
WbioSrvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\wbiosrvc.dll
NPSMSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\npsm.dll
OneSyncSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\APHostService.dll
P9RdrService|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\p9rdrservice.dll
PcaSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\pcasvc.dll
PeerDistSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\PeerDistSvc.dll
PerfHost|3|%SystemRoot%\SysWow64\perfhost.exe|
pla|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\pla.dll
PhoneSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\PhoneService.dll
PimIndexMaintenanceSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\PimIndexMaintenance.dll
UnistoreSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\unistore.dll
UserDataSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\userdataservice.dll
Spooler|2|%SystemRoot%\System32\spoolsv.exe|
PrintNotify|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\spool\drivers\x64\3\PrintConfig.dll
PrintWorkflowUserSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\PrintWorkflowService.dll
PrintDeviceConfigurationService|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\PrintDeviceConfigurationService.dll
PrintScanBrokerService|3|%SystemRoot%\System32\PrintScanBrokerService.exe|
PushToInstall|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\PushToInstall.dll
RemoteRegistry|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\regsvc.dll
RetailDemo|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\RDXService.dll
RmSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\RMapi.dll
RpcLocator|3|%SystemRoot%\System32\Locator.exe|
SCardSvr|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\SCardSvr.dll
ScDeviceEnum|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\ScDeviceEnum.dll
SCPolicySvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\certprop.dll
seclogon|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\seclogon.dll
SEMgrSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\SEMgrSvc.dll
WalletService|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\WalletService.dll
SensorDataService|3|%SystemRoot%\System32\SensorDataService.exe|
SensorService|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\SensorService.dll
SensrSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\sensrsvc.dll
SessionEnv|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\sessenv.dll
UmRdpService|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\umrdp.dll
TermService|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\termsrv.dll
SgrmBroker|3|%SystemRoot%\System32\SgrmBroker.exe|
ShellHWDetection|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\shsvcs.dll
shpamsvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\Windows.SharedPC.AccountManager.dll
SmsRouter|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\SmsRouterSvc.dll
SNMPTRAP|3|%SystemRoot%\System32\snmptrap.exe|
ssh-agent|3|%SystemRoot%\System32\OpenSSH\ssh-agent.exe|
svsvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\svsvc.dll
TokenBroker|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\TokenBroker.dll
wlidsvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\wlidsvc.dll
TroubleshootingSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\MitigationClient.dll
UdkUserSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\windowsudk.shellcommon.dll
UevAgentService|3|%SystemRoot%\System32\AgentService.exe|
UI0Detect|3|%SystemRoot%\System32\UI0Detect.exe|
UsoSvc|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\usosvc.dll
WaaSMedicSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\WaaSMedicSvc.dll
wuauserv|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\wuaueng.dll
vmicguestinterface|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\icsvc.dll
vmicheartbeat|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\icsvc.dll
vmickvpexchange|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\icsvc.dll
vmicrdv|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\icsvcext.dll
vmicshutdown|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\icsvc.dll
vmictimesync|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\icsvc.dll
vmicvmsession|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\icsvc.dll
vmicvss|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\icsvcext.dll
W32Time|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\w32time.dll
WarpJITSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\Windows.WARP.JITService.dll
WdiServiceHost|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\wdi.dll
WdiSystemHost|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\wdi.dll
Wecsvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\wecsvc.dll
WEPHOSTSVC|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\wephostsvc.dll
wercplsupport|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\wercplsupport.dll
WerSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\WerSvc.dll
WFDSConMgrSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\wfdsconmgrsvc.dll
WinRM|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\WsmSvc.dll
wisvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\flightsettings.dll
wlpasvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\lpasvc.dll
WManSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\Windows.Management.Service.dll
wmiApSrv|3|%systemroot%\system32\wbem\WmiApSrv.exe|
WMPNetworkSvc|3|"%ProgramFiles%\Windows Media Player\wmpnetwk.exe"|
workfolderssvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\workfolderssvc.dll
WpcMonSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\WpcDesktopMonSvc.dll
WpnService|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\WpnService.dll
WpnUserService|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\WpnUserService.dll
wudfsvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\WUDFSvc.dll
XblAuthManager|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\XblAuthManager.dll
XblGameSave|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\XblGameSave.dll
XboxNetApiSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\XboxNetApiSvc.dll
XboxGipSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\XboxGipSvc.dll
napagent|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\qagentRT.dll
hkmsvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\kmsvc.dll
ehRecvr|3|%systemroot%\ehome\ehRecvr.exe|
ehSched|3|%systemroot%\ehome\ehsched.exe|
AarSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\AarSvc.dll
ApxSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\ApxSvc.dll
TapiSrv|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\tapisrv.dll
browser|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\browser.dll
AppHostSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\apphostsvc.dll
W3SVC|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\iisw3adm.dll
WAS|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\iisw3adm.dll
IISADMIN|3|%windir%\system32\inetsrv\inetinfo.exe|
DcpSvc|2|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\dcpsvc.dll
camsvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\CapabilityAccessManager.dll
DsSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\DsSvc.dll
midisrv|3|%SystemRoot%\System32\midisrv.exe|
LxssManager|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\LxssManager.dll
LxssManagerUser|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\LxssUserManager.dll
hns|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\HostNetSvc.dll
vmcompute|3|%SystemRoot%\System32\vmcompute.exe|
vmms|3|%SystemRoot%\System32\vmms.exe|
sshd|3|%SystemRoot%\System32\OpenSSH\sshd.exe|
LocalKdc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\localkdcsvc.dll
WSAIFabricSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\WSAIFabricSvc.dll
McpManagementService|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\McpManagementService.dll
CloudBackupRestoreSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\CloudRestoreSvc.dll
MsKeyboardFilter|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\KeyboardFilterSvc.dll
SNMP|3|%SystemRoot%\System32\snmp.exe|
WSService|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\wsservice.dll
THREADORDER|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\mmcss.dll
ProtectedStorage|3|%SystemRoot%\System32\lsass.exe|
idsvc|3|"%systemroot%\Microsoft.NET\Framework64\v3.0\Windows Communication Foundation\infocard.exe"|
whesvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\whesvc.dll
Mcx2Svc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\Mcx2Svc.dll
bthhfsrv|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\bthhfsrv.dll
sacsvr|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\sacsvr.dll
RasAgileVpn|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\vpnike.dll
dcsvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\dcsvc.dll
VacSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\vac.dll
hpatchmon|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\hpatchmon.dll
refsdedupsvc|3|%SystemRoot%\System32\refsdedupsvc.exe|
wuqisvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\wuqisvc.dll
AeLookupSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\aelupsvc.dll
IEEtwCollectorService|3|%SystemRoot%\System32\IEEtwCollector.exe|
IPBusEnum|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\ipbusenum.dll
irmon|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\irmon.dll
sppuinotify|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\sppuinotify.dll
TBS|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\tbssvc.dll
tiledatamodelsvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\tileobjserver.dll
WatAdminSvc|3|%SystemRoot%\System32\WatAdminSvc.exe|
WcsPlugInService|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\WcsPlugInService.dll
WPCSvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\wpcsvc.dll
xbgm|3|%SystemRoot%\System32\xbgmsvc.exe|
CmService|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\cmservice.dll
FTPSVC|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\ftpsvc.dll
HvSIService|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\hvsiservice.dll
LPDSVC|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\lpdsvc.dll
MSMQ|3|%SystemRoot%\System32\mqsvc.exe|
NetMsmqActivator|3|%systemroot%\Microsoft.NET\Framework64\v4.0.30319\SMSvcHost.exe|
NetPipeActivator|3|%systemroot%\Microsoft.NET\Framework64\v4.0.30319\SMSvcHost.exe|
NetTcpActivator|3|%systemroot%\Microsoft.NET\Framework64\v4.0.30319\SMSvcHost.exe|
NfsClnt|3|%SystemRoot%\System32\nfsclnt.exe|
nvagent|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\nvagent.dll
simptcp|3|%SystemRoot%\System32\tcpsvcs.exe|
UwfServcingSvc|3|%SystemRoot%\System32\uwfservicingsvc.exe|
w3logsvc|3|%SystemRoot%\System32\svchost.exe -k netsvcs -p|%SystemRoot%\system32\w3logsvc.dll
WMSVC|3|%SystemRoot%\System32\wmsvc.exe|
`

// ownDrivers are the drivers, with their files where those bear other names.
const ownDrivers = `
disk partmgr volmgr volmgrx volsnap volume mountmgr storahci stornvme storport iaStorAVC iaStorV atapi pciide intelide cdrom cdfs udfs fastfat exfat
Ntfs ReFS ReFSv1 FltMgr fvevol rdyboost spaceport EhStorClass sdbus sdstor USBSTOR UASPStor iScsiPrt Fs_Rec Wof luafv FileInfo kbdclass kbdhid
i8042prt mouclass mouhid HidUsb hidi2c hidspi HidBth hidinterrupt mshidkmdf sermouse WacomPen xinputhid xboxgip Tcpip Tcpip6=tcpip.sys tdx AFD afunix
NetBT NetBIOS nsiproxy Ndisuio NativeWifiP=nwifi.sys vwififlt wdiwifi mrxsmb mrxsmb10 mrxsmb20 rdbss HTTP mpsdrv WFPLWFS Psched=pacer.sys tunnel
wanarp wanarpv6=wanarp.sys NdisWan RasSstp=rassstp.sys RasAgileVpn=AgileVpn.sys Rasl2tp RasPppoe PptpMiniport=raspptp.sys BthPan lltdio rspndr DXGKrnl
BasicDisplay BasicRender monitor IndirectKmd HyperVideo HDAudBus HdAudAddService=HdAudio.sys ksthunk portcfg drmkaud MSKSSRV MSPCLOCK MSPQM MSTEE
USBXHCI USBHUB3 usbhub usbehci usbohci usbuhci usbccgp UCX01000 BTHUSB BTHPORT BthEnum BthLEEnum=Microsoft.Bluetooth.Legacy.LEEnumerator.sys BTHMODEM
RFCOMM usbprint usbvideo WinUsb umbus WdFilter WdBoot WdNisDrv MsSecFlt MsSecCore MsSecWfp KSecDD KSecPkg CNG TPM AppID applockerfltr bam PEAUTH
SgrmAgent scfilter 1394ohci 3ware ACPI AcpiDev acpiex acpipagr AcpiPmi acpitime Acx01000 ADP80XX ahcache amdgpio2 amdi2c AmdK8 AmdPPM amdsata amdsbs
amdxata AppvStrm AppvVemgr AppvVfs arcsas AsyncMac b06bdrv=bxvbda.sys bcmfn2 Beep bfs bindflt blbdrive bowser BthA2dp BthHFAud BthHFEnum BthMini
bttflt buttonconverter CAD cht4iscsi=cht4sx64.sys cht4vbd=cht4vx64.sys CimFS circlass CldFlt CLFS CmBatt cnghwassist CompositeBus condrv CSC dam Dfsc
discache dmvsc ebdrv=evbda.sys EhStorTcgDrv ErrDev fdc FileCrypt Filetrace flpydisk FsDepends gencounter=vmgencounter.sys genericusbfn
GPIOClx0101=msgpioclx.sys GpuEnergyDrv HidBatt HidIr HpSAMD hvcrash hvservice HwNClx0101=mshwnclx.sys hwpolicy hyperkbd iagpio iai2c ibbus intelpep
intelppm iorate IpFilterDriver=ipfltdrv.sys IPMIDRV IPNAT IPT isapnp ItSas35i kdnic mausbhost mausbip MbbCx megasr
Microsoft_Bluetooth_AvrcpTransport=Microsoft.Bluetooth.AvrcpTransport.sys mlx4_bus MMCSS Modem MRxDAV MsBridge Msfs msgpiowin32 mshidumdf msisadrv
MsLldp MsQuic MsRPC mssmbios MTConfig Mup mvumis NdisCap NdisImPlatform NdisTapi NdisVirtualBus ndiswanlegacy=ndiswan.sys NDKPing ndproxy Ndu
NetAdapterCx netvsc Npfs npsvctrig Null nvdimm nvraid nvstor Parport pci pcmcia pcw pdc percsas2i percsas3i PktMon pmem PNPMEM PRM Processor pvscsi
QWAVEdrv Ramdisk RasAcd rdpbus RDPDR RdpVideoMiniport rhproxy s3cap sbp2port scmbus SDFRd SerCx SerCx2 Serenum Serial SiSRaid2 SiSRaid4 SmartSAMD
smbdirect spaceparser SpatialGraphFilter SpbCx srv srv2 srvnet stexstor storflt=vmstorfl.sys storqosflt storufs storvsc storvsp swenum Synth3dVsc
TbtP2pIndirectNetwork TCPIPTUNNEL tcpipreg Telemetry terminpt TsUsbFlt TsUsbGD tsusbhub UcmCx0101 UcmTcpciCx0101 UdeCx UEFI UevAgentDriver Ufx01000
UfxChipidea ufxsynopsys UmPass UrsChipidea UrsCx01000 UrsSynopsys usbcir usbser vdrvroot VerifierExt vhdmp vhf Vid VirtualRender vmbus VMBusHID vmgid
vpci vsmraid VSTXRAID vwifibus vwifimp wcifs wcnfs Wdf01000 WdmCompanionFilter WimMount WinMad WinNat WinVerbs WmiAcpi WpdUpFltr ws2ifsl WudfPf WUDFRd
NDIS WinSetupMon ebdrv0=evbd0a.sys nvmedisk P9Rdr wtd AppleKmdfFilter AppleLowerFilter e1iexpress intelpmax sfloppy kbldfltr Usb4HostRouter
Usb4DeviceRouter UnionFS l2bridge lxcore lxss netvscvfpp passthruparser pvhdparser hnswfpdriver HvSocket=hvsocketcontrol.sys VfpExt vmbusr
vmsmp=vmswitch.sys VMSP=vmswitch.sys VmsProxy=VmsProxy.sys
`

// ownTasks are the tasks below \Microsoft\Windows, with what each runs; "class" is a class of the system.
const ownTasks = `
.NET Framework\.NET Framework NGEN v4.0.30319|class
.NET Framework\.NET Framework NGEN v4.0.30319 64|class
Active Directory Rights Management Services Client\AD RMS Rights Policy Template Management (Automated)|class
AppID\EDP Policy Manager|class
AppID\PolicyConverter|%windir%\system32\appidpolicyconverter.exe
AppID\VerifiedPublisherCertStoreCheck|%windir%\system32\appidcertstorecheck.exe
Application Experience\MareBackup|%windir%\system32\compattelrunner.exe -m:aeinv.dll -f:UpdateSoftwareInventoryW
Application Experience\Microsoft Compatibility Appraiser|%windir%\system32\compattelrunner.exe
Application Experience\PcaPatchDbTask|%windir%\system32\rundll32.exe %windir%\system32\PcaSvc.dll,PcaPatchSdbTask
Application Experience\StartupAppTask|%windir%\system32\rundll32.exe Startupscan.dll,SusRunTask
ApplicationData\appuriverifierdaily|%windir%\system32\AppHostRegistrationVerifier.exe
ApplicationData\CleanupTemporaryState|%windir%\system32\rundll32.exe Windows.Storage.ApplicationData.dll,CleanupTemporaryState
ApplicationData\DsSvcCleanup|%windir%\system32\dstokenclean.exe
AppListBackup\Backup|class
AppxDeploymentClient\Pre-staged app cleanup|%windir%\system32\rundll32.exe %windir%\system32\AppxDeploymentClient.dll,AppxPreStageCleanupRunTask
Autochk\Proxy|%windir%\system32\rundll32.exe /d acproxy.dll,PerformAutochkOperations
BitLocker\BitLocker Encrypt All Drives|class
Bluetooth\UninstallDeviceTask|BthUdTask.exe $(Arg0)
BrokerInfrastructure\BgTaskRegistrationMaintenanceTask|class
CertificateServicesClient\UserTask|class
Chkdsk\ProactiveScan|class
Chkdsk\SyspartRepair|%windir%\system32\bcdboot.exe %windir% /sysrepair
Clip\License Validation|%SystemRoot%\system32\ClipUp.exe -p -s -o
CloudExperienceHost\CreateObjectTask|class
Customer Experience Improvement Program\Consolidator|%SystemRoot%\System32\wsqmcons.exe
Customer Experience Improvement Program\UsbCeip|class
Data Integrity Scan\Data Integrity Scan|class
Defrag\ScheduledDefrag|%windir%\system32\defrag.exe -c -h -k -g -$
Device Information\Device|%windir%\system32\devicecensus.exe SystemCxt
Device Information\Device User|%windir%\system32\devicecensus.exe UserCxt
Diagnosis\Scheduled|class
DirectX\DXGIAdapterCache|%windir%\system32\dxgiadaptercache.exe
DiskCleanup\SilentCleanup|%windir%\system32\cleanmgr.exe /autoclean /d %systemdrive%
DiskDiagnostic\Microsoft-Windows-DiskDiagnosticDataCollector|%windir%\system32\rundll32.exe dfdts.dll,DfdGetDefaultPolicyAndSMART
DiskDiagnostic\Microsoft-Windows-DiskDiagnosticResolver|%windir%\system32\DFDWiz.exe
DiskFootprint\Diagnostics|%windir%\system32\disksnapshot.exe -z
DUSM\dusmtask|%SystemRoot%\System32\dusmtask.exe
EDP\EDP App Launch Task|class
ExploitGuard\ExploitGuard MDM policy Refresh|class
Feedback\Siuf\DmClient|%windir%\system32\dmclient.exe utcwnf
FileHistory\File History (maintenance mode)|class
Flighting\FeatureConfig\ReconcileFeatures|class
Input\TouchpadSyncDataAvailable|class
InstallService\ScanForUpdates|class
International\Synchronize Language Settings|class
Kernel\La57Cleanup|%windir%\system32\rundll32.exe la57setup.dll,La57Cleanup
LanguageComponentsInstaller\Installation|class
License Manager\TempSignedLicenseExchange|class
Location\Notifications|%windir%\System32\LocationNotificationWindows.exe
Location\WindowsActionDialog|%windir%\System32\WindowsActionDialog.exe
Maintenance\WinSAT|class
Management\Provisioning\Cellular|%windir%\system32\ProvTool.exe /turn 5 /source CellStateChangeTask
Maps\MapsUpdateTask|class
MemoryDiagnostic\ProcessMemoryDiagnosticEvents|class
Mobile Broadband Accounts\MNO Metadata Parser|%SystemRoot%\System32\MbaeParserTask.exe
MUI\LPRemove|%windir%\system32\lpremove.exe
Multimedia\SystemSoundsService|class
NetTrace\GatherNetworkInfo|%windir%\system32\gatherNetworkInfo.vbs $(Arg1)
NlaSvc\WiFiTask|%SystemRoot%\System32\WiFiTask.exe
Offline Files\Background Synchronization|class
PI\Secure-Boot-Update|class
Plug and Play\Device Install Group Policy|class
Plug and Play\Sysprep Generalize Drivers|%SystemRoot%\System32\drvinst.exe 6
Power Efficiency Diagnostics\AnalyzeSystem|class
Printing\EduPrintProv|%windir%\system32\eduprintprov.exe
PushToInstall\LoginCheck|%windir%\system32\sc.exe start pushtoinstall login
PushToInstall\Registration|%windir%\system32\sc.exe start pushtoinstall registration
Ras\MobilityManager|class
RecoveryEnvironment\VerifyWinRE|class
Registry\RegIdleBackup|class
RemoteAssistance\RemoteAssistanceTask|%windir%\system32\RAServer.exe /offerraupdate
SettingSync\BackgroundUploadTask|class
SharedPC\Account Cleanup|%windir%\System32\rundll32.exe %windir%\System32\Windows.SharedPC.AccountManager.dll,StartMaintenance
Shell\FamilySafetyMonitor|%windir%\System32\wpcmon.exe
Shell\IndexerAutomaticMaintenance|class
SoftwareProtectionPlatform\SvcRestartTask|class
SoftwareProtectionPlatform\SvcRestartTaskLogon|%windir%\system32\sc.exe start sppsvc
SpacePort\SpaceAgentTask|%windir%\system32\SpaceAgent.exe
SpacePort\SpaceManagerTask|%windir%\system32\spaceman.exe /Work
Speech\SpeechModelDownloadTask|%windir%\system32\speech_onecore\common\SpeechModelDownload.exe
StateRepository\MaintenanceTasks|%windir%\system32\rundll32.exe %windir%\system32\Windows.StateRepositoryClient.dll,StateRepositoryDoMaintenanceTasks
Storage Tiers Management\Storage Tiers Optimization|%windir%\system32\defrag.exe -c -h -g -# -m 8 -i 13500
Subscription\LicenseAcquisition|%SystemRoot%\system32\ClipRenew.exe
Sysmain\ResPriStaticDbSync|%windir%\system32\rundll32.exe sysmain.dll,PfSvResPriStaticDbSync
Sysmain\WsSwapAssessmentTask|%windir%\system32\rundll32.exe sysmain.dll,PfSvWsSwapAssessmentTask
SystemRestore\SR|%windir%\system32\srtasks.exe ExecuteScheduledSPPCreation
Task Manager\Interactive|class
TextServicesFramework\MsCtfMonitor|class
Time Synchronization\ForceSynchronizeTime|class
Time Synchronization\SynchronizeTime|%windir%\system32\sc.exe start w32time task_started
Time Zone\SynchronizeTimeZone|%windir%\system32\tzsync.exe
TPM\Tpm-Maintenance|class
UpdateOrchestrator\Schedule Scan|%systemroot%\system32\usoclient.exe StartScan
UpdateOrchestrator\USO_UxBroker|%systemroot%\system32\MusNotification.exe
UPnP\UPnPHostConfig|sc.exe config upnphost start= auto
USB\Usb-Notifications|class
User Profile Service\HiveUploadTask|class
WaaSMedic\PerformRemediation|class
WCM\WiFiTask|%SystemRoot%\System32\WiFiTask.exe
WDI\ResolutionHost|class
Windows Defender\Windows Defender Scheduled Scan|C:\ProgramData\Microsoft\Windows Defender\Platform\4.18.24010.12-0\MpCmdRun.exe Scan -ScheduleJob
Windows Error Reporting\QueueReporting|%windir%\system32\wermgr.exe -upload
Windows Filtering Platform\BfeOnServiceStartTypeChange|%windir%\system32\rundll32.exe bfe.dll,BfeOnServiceStartTypeChange
Windows Media Sharing\UpdateLibrary|"%ProgramFiles%\Windows Media Player\wmpnscfg.exe"
WindowsColorSystem\Calibration Loader|class
WindowsUpdate\Scheduled Start|C:\Windows\system32\sc.exe start wuauserv
Wininet\CacheTask|class
WOF\WIM-Hash-Management|class
Work Folders\Work Folders Logon Synchronization|class
Setup\SetupCleanupTask|class
Setup\SetupSnapshotCleanupTask|class
Workplace Join\Automatic-Device-Join|%SystemRoot%\System32\dsregcmd.exe $(Arg0) $(Arg1) $(Arg2)
WwanSvc\NotificationTask|%SystemRoot%\System32\WiFiTask.exe wwan
`

// WindowsAsItIs builds a disk of a plain Windows 10 with more keys, and more files, named as below C:\.
func WindowsAsItIs(t testing.TB, software, system Keys, files map[string]string) string {
	t.Helper()
	sz, dw := regf.NewText, regf.NewNumber
	const (
		cv    = `Microsoft\Windows\CurrentVersion\`
		nt    = `Microsoft\Windows NT\CurrentVersion\`
		ccs   = `ControlSet002\`
		class = "{00000000-0000-0000-0000-00000000%04d}"
	)
	sw := Keys{
		cv + `Run`: {sz("SecurityHealth", `%windir%\system32\SecurityHealthSystray.exe`)},
		nt + `Winlogon`: {sz("Shell", "explorer.exe"), sz("Userinit", `C:\Windows\system32\userinit.exe,`),
			sz("VMApplet", "SystemPropertiesPerformance.exe /pagefile")},
		nt + `Winlogon\GPExtensions\{42B5FAAE-6536-11d2-AE5A-0000F87571E3}`: {sz("", "Scripts"),
			sz("DllName", "gpscript.dll")},
		nt + `Drivers32`: {sz("midimapper", "midimap.dll"), sz("msacm.msadpcm", "msadp32.acm"),
			sz("wave", "wdmaud.drv"), sz("wavemapper", "msacm32.drv")},
		`WOW6432Node\` + nt + `Drivers32`:    {sz("wavemapper", "msacm32.drv")},
		`Classes\exefile\shell\open\command`: {sz("", `"%1" %*`)}, `Classes\txtfile\shell\open\command`: {sz("",
			`%SystemRoot%\system32\NOTEPAD.EXE %1`)}, `Classes\.exe`: {sz("", "exefile")},
		`Microsoft\NetSh`:           {sz("2", "ifmon.dll")},
		nt + `ProfileList\S-1-5-19`: {regf.NewExpand("ProfileImagePath", `%systemroot%\ServiceProfiles\LocalService`)},
		nt + `ProfileList\S-1-5-20`: {regf.NewExpand("ProfileImagePath",
			`%systemroot%\ServiceProfiles\NetworkService`)},
		`WOW6432Node\Classes`: {{Name: "SymbolicLinkValue", Type: regf.Link,
			Data: []byte(
				"\\\x00R\x00e\x00g\x00i\x00s\x00t\x00r\x00y\x00\\\x00M\x00a\x00c\x00h\x00i\x00n\x00e\x00\\\x00S\x00o\x00f\x00t\x00w\x00a\x00r\x00e\x00\\\x00C\x00l\x00a\x00s\x00s\x00e\x00s\x00\\\x00W\x00O\x00W\x006\x004\x003\x002\x00N\x00o\x00d\x00e\x00")}},
	}
	sys := Keys{
		ccs + `Control\SafeBoot`: {sz("AlternateShell", "cmd.exe")},
		ccs + `Control\Session Manager`: {{Name: "BootExecute", Type: regf.MultiString,
			Data: regf.ListData([]string{"autocheck autochk *"})}, regf.NewExpand("BootShell",
			`%SystemRoot%\system32\bootim.exe`)},
		ccs + `Control\Session Manager\SubSystems`: {regf.NewExpand("Windows",
			`%SystemRoot%\system32\csrss.exe ObjectDirectory=\Windows SharedSection=1024,20480,768 Windows=On `+
				`SubSystemType=Windows ServerDll=basesrv,1 ServerDll=winsrv:UserServerDllInitialization,3 `+
				`ServerDll=sxssrv,4 ProfileControl=Off MaxRequestThreads=16`),
			regf.NewExpand("Kmode", `\SystemRoot\System32\win32k.sys`), sz("Debug", ""), regf.NewList("Required",
				"Debug", "Windows"), regf.NewList("Optional")},
		ccs + `Services\WinSock2\Parameters`:       {sz("AutodialDLL", `C:\Windows\System32\rasadhlp.dll`)},
		ccs + `Control\LsaExtensionConfig\LsaSrv`:  {regf.NewList("Extensions", "lsadb.dll")},
		ccs + `Services\PerfDisk\Performance`:      {sz("Library", "perfdisk.dll")},
		ccs + `Services\.NETFramework\Performance`: {regf.NewExpand("Library", `%systemroot%\system32\mscoree.dll`)},
		ccs + `Control\Session Manager\KnownDLLs`: {sz("kernel32", "kernel32.dll"), sz("_wowarmhw", "wowarmhw.dll"),
			sz("_xtajit", "xtajit.dll"), sz("DllDirectory", `%SystemRoot%\system32`)},
		ccs + `Control\Lsa`: {{Name: "Authentication Packages", Type: regf.MultiString,
			Data: regf.ListData([]string{"msv1_0"})},
			{Name: "Notification Packages", Type: regf.MultiString, Data: regf.ListData([]string{"scecli"})},
			{Name: "Security Packages", Type: regf.MultiString, Data: regf.ListData([]string{`""`})}},
		ccs + `Control\Class\{4d36e96b-e325-11ce-bfc1-08002be10318}`: {sz("Class", "Keyboard"), {Name: "UpperFilters",
			Type: regf.MultiString, Data: regf.ListData([]string{"kbdclass"})}},
		ccs + `Control\Class\{71a27cdd-812a-11d0-bec7-08002be2092f}`: {sz("Class", "Volume"), {Name: "LowerFilters",
			Type: regf.MultiString, Data: regf.ListData([]string{"fvevol", "iorate", "rdyboost"})}},
		ccs + `Control\NetworkProvider\Order`: {sz("ProviderOrder",
			"P9NP,RDPNP,LanmanWorkstation,webclient")},
		ccs + `Control\Print\Monitors\Local Port`:                                {sz("Driver", "localspl.dll")},
		ccs + `Control\Print\Environments\Windows x64`:                           {sz("Directory", "x64")},
		ccs + `Control\Print\Environments\Windows x64\Print Processors\winprint`: {sz("Driver", "winprint.dll")},
	}
	// What many lists of autostarts of such systems have, though it is Windows' own.
	for id, values := range map[string][]regf.Value{"{2C7339CF-2B09-4501-B3F3-F3508C9228ED}": {sz("", "Themes Setup"),
		sz("StubPath", "/UserInstall")}, "{89820200-ECBD-11cf-8B85-00AA005B4340}": {sz("", "Windows Desktop Update"),
		sz("StubPath", "U")}} {
		for _, view := range []string{"", `WOW6432Node\`} {
			sw[view+`Microsoft\Active Setup\Installed Components\`+id] = values
		}
	}
	for name, id := range map[string]string{"dvd": "{12D51199-0DB5-46FE-A120-47A3D7D937CC}",
		"tv": "{CBD30858-AF45-11D2-B6D6-00C04FBBDE6E}", "tbauth": "{14654CA6-5711-491D-B89A-58E571679951}",
		"windows.tbauth": "{14654CA6-5711-491D-B89A-58E571679951}"} {
		sw[`Classes\Protocols\Handler\`+name] = []regf.Value{sz("CLSID", id)}
		library := map[bool]string{true: "MSVidCtl.dll", false: "tbauth.dll"}[len(name) < 4]
		sw[`Classes\CLSID\`+id+`\InprocServer32`] = []regf.Value{regf.NewExpand("", `%SystemRoot%\System32\`+library)}
	}
	const defender = "{09A47860-11B0-4DA5-AFA5-26D86198A780}"
	sw[`Classes\CLSID\`+defender+`\InprocServer32`] = []regf.Value{regf.NewExpand("",
		`"%ProgramFiles%\Windows Defender\shellext.dll"`)}
	for _, of := range []string{"*", "Directory", "Drive"} {
		sw[`Classes\`+of+`\shellex\ContextMenuHandlers\EPP`] = []regf.Value{sz("", defender)}
	}
	sw[`Classes\CLSID\{CFBFAE00-17A6-11D0-99CB-00C04FD64497}\InprocServer32`] = []regf.Value{regf.NewExpand("",
		`%SystemRoot%\System32\ieframe.dll`)}
	sys[`Setup`] = []regf.Value{sz("CmdLine", `oobe\windeploy.exe`), dw("SetupType", 0)}
	for _, mode := range []string{"Minimal", "Network"} {
		for _, name := range []string{"Netlogon", "CryptSvc"} {
			sys[ccs+`Control\SafeBoot\`+mode+`\`+name] = []regf.Value{sz("", "Service")}
		}
	}
	all := map[string]string{`Windows\System32\spool\prtprocs\x64\winprint.dll`: "", `Windows\explorer.exe`: "",
		`Windows\SysWOW64\OneDriveSetup.exe`: "", `Windows\SysWOW64\msacm32.drv`: "",
		`Windows\System32\oobe\windeploy.exe`:         "",
		`Program Files\Windows Defender\shellext.dll`: ""}
	for _, account := range []string{"LocalService", "NetworkService"} {
		all[`Windows\ServiceProfiles\`+account+`\NTUSER.DAT`] = string(Hive(t, Keys{`Software\` + cv +
			`Run`: {sz("OneDriveSetup", `C:\Windows\SysWOW64\OneDriveSetup.exe /thfirstsetup`)}}))
	}
	put := func(name string) { // a file, by a path with variables
		for variable, folder := range map[string]string{"%systemroot%": `Windows`, "%windir%": `Windows`,
			"%programfiles%": `Program Files`} {
			if len(name) >= len(variable) && strings.EqualFold(name[:len(variable)], variable) {
				name = folder + name[len(variable):]
			}
		}
		all[strings.ReplaceAll(strings.ReplaceAll(strings.TrimPrefix(name, `C:\`), "system32", "System32"), "SysWow64",
			"SysWOW64")] = ""
	}
	for _, name := range []string{"svchost.exe", "userinit.exe", "SecurityHealthSystray.exe",
		"SystemPropertiesPerformance.exe", "gpscript.dll", "midimap.dll", "msadp32.acm", "wdmaud.drv", "ifmon.dll",
		"cmd.exe",
		"csrss.exe", "win32k.sys", "bootim.exe", "rasadhlp.dll", "lsadb.dll", "perfdisk.dll", "msacm32.drv",
		"MSVidCtl.dll", "tbauth.dll", "ieframe.dll", "mscoree.dll",
		"autochk.exe", "kernel32.dll", "msv1_0.dll", "scecli.dll", "localspl.dll", "notepad.exe", "rundll32.exe",
		"sc.exe", "cscript.exe", "p9np.dll", "drprov.dll", "ntlanman.dll", "davclnt.dll"} {
		put(`%SystemRoot%\System32\` + name)
	}
	for name, file := range map[string]string{"P9NP": "p9np.dll", "RDPNP": "drprov.dll",
		"LanmanWorkstation": "ntlanman.dll", "webclient": "davclnt.dll"} {
		sys[ccs+`Services\`+name+`\NetworkProvider`] = []regf.Value{sz("ProviderPath", `%SystemRoot%\System32\`+file)}
	}
	for line := range strings.Lines(strings.TrimPrefix(ownServices, "\n")) {
		f := strings.Split(strings.TrimSpace(line), "|")
		kind, start := uint32(0x20), uint32(f[1][0]-'0')
		if f[3] == "" {
			kind = 0x10
			put(strings.Trim(f[2], `"`))
		} else {
			put(f[3])
			sys[ccs+`Services\`+f[0]+`\Parameters`] = []regf.Value{sz("ServiceDll", f[3])}
		}
		sys[ccs+`Services\`+f[0]] = []regf.Value{dw("Type", kind), dw("Start", start), sz("ImagePath", f[2]),
			sz("DisplayName", `@%SystemRoot%\system32\x.dll,-1`)}
	}
	for name := range strings.FieldsSeq(ownDrivers) {
		name, file, _ := strings.Cut(name, "=")
		values := []regf.Value{dw("Type", 1), dw("Start", 3)}
		if file == "" {
			file = name + ".sys"
		} else {
			values = append(values, sz("ImagePath", `\SystemRoot\System32\drivers\`+file))
		}
		put(`%SystemRoot%\System32\drivers\` + file)
		sys[ccs+`Services\`+name] = append(sys[ccs+`Services\`+name], values...)
	}
	n := 0
	for line := range strings.Lines(strings.TrimPrefix(ownTasks, "\n")) {
		name, runs, _ := strings.Cut(strings.TrimSpace(line), "|")
		n++
		action := ""
		if runs == "class" {
			id := fmt.Sprintf(class, n)
			sw[`Classes\CLSID\`+id+`\InprocServer32`] = []regf.Value{sz("",
				fmt.Sprintf(`%%SystemRoot%%\System32\task%d.dll`, n))}
			put(fmt.Sprintf(`%%SystemRoot%%\System32\task%d.dll`, n))
			action = "<ComHandler><ClassId>" + id + "</ClassId></ComHandler>"
		} else {
			program, arguments, _ := strings.Cut(runs, " ")
			if rest, quoted := strings.CutPrefix(runs, `"`); quoted {
				program, arguments, _ = strings.Cut(rest, `"`)
			} else if before, after, ok := strings.Cut(runs, ".exe "); ok {
				program, arguments = before+".exe", after
			}
			if !strings.Contains(program, `\`) {
				put(`%SystemRoot%\System32\` + program)
			} else {
				put(program)
			}
			if library, _, ok := strings.Cut(strings.TrimPrefix(arguments, "/d "), ","); ok &&
				strings.HasSuffix(library, ".dll") {
				put(`%SystemRoot%\System32\` + library[strings.LastIndexByte(library, '\\')+1:])
			}
			action = "<Exec><Command>" + program + "</Command><Arguments>" + arguments + "</Arguments></Exec>"
		}
		all[`Windows\System32\Tasks\Microsoft\Windows\`+
			name] = `<Task xmlns="http://schemas.microsoft.com/windows/2004/02/mit/task"><Settings><Enabled>true</Enabled></Settings><Actions>` + action + `</Actions></Task>`
		sw[nt+`Schedule\TaskCache\Tree\Microsoft\Windows\`+name] = []regf.Value{sz("Id", fmt.Sprintf("{%d}", n))}
	}
	for path, values := range software {
		sw[path] = append(sw[path], values...)
	}
	for path, values := range system {
		sys[path] = append(sys[path], values...)
	}
	for name, content := range files {
		all[name] = content
	}
	return WindowsDisk(t, sw, sys, Keys{`Software\Microsoft\Internet Explorer\UrlSearchHooks`: {sz(
		"{CFBFAE00-17A6-11D0-99CB-00C04FD64497}", "")}}, all)
}
