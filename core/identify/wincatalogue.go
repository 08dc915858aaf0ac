package identify

import (
	"path"
	"strings"
	"sync"

	"lockback/core/autostart"
	"lockback/core/format/windata"
	"lockback/core/machine"
)

// The parts of Windows itself. An entry counts as one where its name stands
// here and its program lies in the system's own folders: names are those of
// services, drivers, tasks and libraries that a Windows 7 to 11 desktop has when
// nothing was added to it.
var windowsCatalogue = []row{
	{"windows.services", `
		RpcSs DcomLaunch RpcEptMapper BrokerInfrastructure LSM PlugPlay Power SamSs EventLog EventSystem Schedule
		SystemEventsBroker CoreMessagingRegistrar CryptSvc gpsvc ProfSvc UserManager StateRepository AppXSvc ClipSVC
		LicenseManager sppsvc TrustedInstaller Winmgmt SENS TimeBrokerSvc SysMain KeyIso VaultSvc`, "the core of the system", toStart, true},
	{"windows.services", `
		Dhcp Dnscache NlaSvc netprofm nsi LanmanWorkstation LanmanServer WlanSvc WwanSvc dot3svc NcbService Netman
		iphlpsvc WinHttpAutoProxySvc lmhosts BFE IKEEXT PolicyAgent RasMan SstpSvc RasAuto RemoteAccess EapHost Wcmsvc
		icssvc NcaSvc NcdAutoSetup WebClient SharedAccess WcnCsvc wcncsvc SSDPSRV upnphost fdPHost FDResPub
		HomeGroupListener HomeGroupProvider p2pimsvc p2psvc PNRPsvc PNRPAutoReg NetSetupSvc NetTcpPortSharing Netlogon
		lltdsvc`, "the network", toNetwork, true},
	{"windows.services", "mpssvc WinDefend WdNisSvc SecurityHealthService wscsvc Sense webthreatdefsvc webthreatdefusersvc MDCoreSvc", "protection", toProtect, true},
	{"windows.services", `
		hidserv TabletInputService TextInputManagementService DeviceInstall DsmSvc DeviceAssociationService
		DeviceAssociationBrokerSvc bthserv BTAGService BthAvctpSvc BluetoothUserService WiaRpc stisvc WPDBusEnum
		PenService`, "devices and input", toInput, true},
	{"windows.services", "Themes UxSms FontCache FontCache3.0.0.0 DispBrokerDesktopSvc GraphicsPerfSvc DisplayEnhancementService WPFFontCache_v0400", "the screen", toShow, true},
	{"windows.services", "Audiosrv AudioEndpointBuilder QWAVE", "sound", toSession, true},
	{"windows.services", "VSS swprv vds defragsvc StorSvc WSearch EFS BDESVC fhsvc SDRSVC wbengine smphost TieringEngineService MSiSCSI CscService TrkWks SENS", "disks and files", "", true},
	{"windows.services", `
		AJRouter ALG AppIDSvc Appinfo AppMgmt AppReadiness AppVClient aspnet_state AssignedAccessManagerSvc
		autotimesvc AxInstSV BcastDVRUserService BITS CDPSvc CDPUserSvc CaptureService CertPropSvc cbdhsvc cloudidsvc
		COMSysApp ConsentUxUserSvc CredentialEnrollmentManagerUserSvc DevQueryBroker DevicePickerUserSvc
		DevicesFlowUserSvc diagnosticshub.standardcollector.service diagsvc DiagTrack DialogBlockingService
		dmwappushservice DmEnrollmentSvc DoSvc DPS DusmSvc embeddedmode EntAppSvc Fax FrameServer FrameServerMonitor
		GameInputSvc HvHost hkmsvc ehRecvr ehSched InstallService InventorySvc IpxlatCfgSvc KtmRm lfsvc LxpSvc
		MapsBroker McpManagementService MessagingService MicrosoftEdgeElevationService MixedRealityOpenXRSvc MMCSS
		MSDTC msiserver NaturalAuthentication NgcCtnrSvc NgcSvc NPSMSvc OneSyncSvc P9RdrService PcaSvc PeerDistSvc
		perceptionsimulation PerfHost PhoneSvc PimIndexMaintenanceSvc pla PrintNotify PrintDeviceConfigurationService
		PrintScanBrokerService PrintWorkflowUserSvc Spooler PushToInstall RemoteRegistry RetailDemo RmSvc RpcLocator
		SCardSvr ScDeviceEnum SCPolicySvc seclogon SEMgrSvc SensorDataService SensorService SensrSvc SessionEnv
		SgrmBroker SharedRealitySvc shpamsvc ShellHWDetection SmsRouter SNMPTRAP spectrum ssh-agent svsvc TermService
		TokenBroker TroubleshootingSvc tzautoupdate UdkUserSvc UevAgentService UI0Detect UmRdpService UnistoreSvc
		UserDataSvc UsoSvc vmicguestinterface vmicheartbeat vmickvpexchange vmicrdv vmicshutdown vmictimesync
		vmicvmsession vmicvss W32Time WaaSMedicSvc WalletService WarpJITSvc WbioSrvc WdiServiceHost WdiSystemHost
		Wecsvc WEPHOSTSVC wercplsupport WerSvc WFDSConMgrSvc whesvc WinRM wisvc wlidsvc wlpasvc WManSvc wmiApSrv
		WMPNetworkSvc workfolderssvc WpcMonSvc WpnService WpnUserService wuauserv wudfsvc XblAuthManager XblGameSave
		XboxGipSvc XboxNetApiSvc clr_optimization_v* idsvc napagent ProtectedStorage QWAVE Mcx2Svc bthhfsrv browser
		ALG AarSvc ApxSvc DcpSvc diagnosticshub* RemoteAccess RasAgileVpn SstpSvc swprv TapiSrv HomeGroup* stisvc
		WinHttpAutoProxySvc AppHostSvc W3SVC WAS IISADMIN Dfs* sacsvr`, "a service of the system", "", true},
	{"windows.safe-boot", "*", "what safe mode starts", toStart, true},
	{"windows.drivers", `
		1394ohci 3ware ACPI AcpiDev acpiex acpipagr AcpiPmi acpitime Acx01000 ADP80XX AFD afunix ahcache amdgpio2
		amdi2c AmdK8 AmdPPM amdsata amdsbs amdxata AppID applockerfltr AppvStrm AppvVemgr AppvVfs arcsas AsyncMac
		atapi b06bdrv bam BasicDisplay BasicRender bcmfn2 Beep bfs bindflt blbdrive bowser BthA2dp BthEnum BthHFAud
		BthHFEnum BthLEEnum BthMini BTHMODEM BthPan BTHPORT BTHUSB bttflt buttonconverter CAD cdfs cdrom cht4iscsi
		cht4vbd CimFS circlass CldFlt CLFS CmBatt CNG cnghwassist CompositeBus condrv CSC dam Dfsc discache Disk dmvsc
		drmkaud DXGKrnl ebdrv EhStorClass EhStorTcgDrv ErrDev exfat fastfat fdc FileCrypt FileInfo Filetrace flpydisk
		FltMgr FsDepends Fs_Rec fvevol gencounter genericusbfn GPIOClx0101 GpuEnergyDrv HdAudAddService HDAudBus
		HidBatt HidBth hidi2c hidinterrupt HidIr hidspi HidUsb HpSAMD HTTP hvcrash hvservice HwNClx0101 hwpolicy
		hyperkbd HyperVideo i8042prt iagpio iai2c iaLPSS2i_* iaLPSSi_* iaStorAVC iaStorV ibbus IndirectKmd intelide
		intelpep intelppm iorate IpFilterDriver IPMIDRV IPNAT IPT isapnp iScsiPrt ItSas35i kbdclass kbdhid kdnic
		KSecDD KSecPkg ksthunk lltdio LSI_* luafv mausbhost mausbip MbbCx megasas* megasr
		Microsoft_Bluetooth_AvrcpTransport mlx4_bus MMCSS Modem monitor mouclass mouhid mountmgr mpsdrv MRxDAV mrxsmb
		mrxsmb10 mrxsmb20 MsBridge Msfs msgpiowin32 mshidkmdf mshidumdf msisadrv MSKSSRV MsLldp MSPCLOCK MSPQM MsQuic
		MsRPC MsSecCore MsSecFlt MsSecWfp mssmbios MSTEE MTConfig Mup mvumis NativeWifiP NdisCap NdisImPlatform
		NdisTapi Ndisuio NdisVirtualBus NdisWan ndiswanlegacy NDKPing ndproxy Ndu NetAdapterCx NetBIOS NetBT netvsc
		Npfs npsvctrig nsiproxy Ntfs Null nvdimm nvraid nvstor Parport partmgr pci pciide pcmcia pcw pdc PEAUTH
		percsas2i percsas3i PktMon pmem PNPMEM portcfg PptpMiniport PRM Processor Psched pvscsi QWAVEdrv Ramdisk
		RasAcd RasAgileVpn Rasl2tp RasPppoe RasSstp rdbss rdpbus RDPDR RdpVideoMiniport rdyboost ReFS ReFSv1 RFCOMM
		rhproxy rspndr s3cap sbp2port scfilter scmbus sdbus SDFRd sdstor SerCx SerCx2 Serenum Serial sermouse
		SgrmAgent SiSRaid2 SiSRaid4 SmartSAMD smbdirect spaceparser spaceport SpatialGraphFilter SpbCx srv srv2 srvnet
		stexstor storahci storflt stornvme storqosflt storufs storvsc storvsp swenum Synth3dVsc TbtP2pIndirectNetwork
		Tcpip TCPIP6 Tcpip6 TCPIPTUNNEL tcpipreg tdx Telemetry terminpt TPM TsUsbFlt TsUsbGD tsusbhub tunnel UASPStor
		UcmCx0101 UcmTcpciCx0101 UcmUcsi* Ucx01000 UdeCx udfs UEFI UevAgentDriver Ufx01000 UfxChipidea ufxsynopsys
		umbus UmPass UrsChipidea UrsCx01000 UrsSynopsys usbaudio* usbccgp usbcir usbehci usbhub USBHUB3 usbohci
		usbprint usbser USBSTOR usbuhci usbvideo USBXHCI vdrvroot VerifierExt vhdmp vhf Vid VirtualRender vmbus
		VMBusHID vmgid volmgr volmgrx volsnap volume vpci vsmraid VSTXRAID vwifibus vwififlt vwifimp WacomPen wanarp
		wanarpv6 wcifs wcnfs WdBoot Wdf01000 WdFilter wdiwifi WdmCompanionFilter WdNisDrv WFPLWFS WimMount
		WindowsTrustedRT* WinMad WinNat WinUsb WinVerbs WmiAcpi Wof WpdUpFltr ws2ifsl WudfPf WUDFRd xboxgip xinputhid
		usbehci HidUsb`, "a driver of the system", "", true},
	// Programs and libraries, by the name of the file.
	{"windows.run", "SecurityHealthSystray.exe RTHDVCPL.exe ctfmon.exe", "a part of the desktop", toSession, true},
	{"windows.active-setup", "ie4uinit.exe unregmp2.exe themeui.dll iesetup.dll mscories.dll iedkcs32.dll shell32.dll Rundll32.exe regsvr32.exe advpack.dll setup_wm.exe inseng.dll", "set up by the system", "", true},
	{"windows.credential-providers", `
		authui.dll credprovhost.dll credprovs.dll credprovslegacy.dll certCredProvider.dll
		SmartcardCredentialProvider.dll BioCredProv.dll biocredprov.dll ngccredprov.dll TrustedSignalCredProv.dll
		wlidcredprov.dll rasplap.dll FaceCredentialProvider.dll cngcredui.dll DevicePairing.dll WLIDCredProv.dll`, "signing in", toSignIn, true},
	{"windows.print", "localspl.dll tcpmon.dll usbmon.dll WSDMon.dll APMon.dll AppMon.dll FXSMON.DLL IppMon.dll inetpp.dll win32spl.dll winprint.dll", "printing", "", true},
	{"windows.time-providers", "w32time.dll vmictimeprovider.dll", "the clock", "", true},
	{"windows.netsh", `
		ifmon.dll rasmontr.dll authfwcfg.dll dhcpcmonitor.dll dot3cfg.dll fwcfg.dll hnetmon.dll netiohlp.dll
		nettrace.dll nshhttp.dll nshipsec.dll nshwfp.dll p2pnetsh.dll rpcnsh.dll wcnnetsh.dll whhelper.dll wlancfg.dll
		wshelper.dll wwancfg.dll peerdistsh.dll napmontr.dll mcastdns.dll`, "network settings", "", true},
	{"windows.network-providers", "ntlanman.dll drprov.dll davclnt.dll p9np.dll", "network drives", toNetwork, true},
	{"windows.winsock", "mswsock.dll napinsp.dll pnrpnsp.dll winrnr.dll nlaapi.dll wshbth.dll vsocklib.dll", "network connections", toNetwork, true},
	{"windows.known-dlls", "*", "libraries of the system", toStart, true},
	{"windows.amsi", "MpOav.dll", "protection", toProtect, true},
	{"windows.codecs", `
		*.acm *.drv midimap.dll msvidc32.dll msyuv.dll msrle32.dll iyuv_32.dll tsbyuv.dll iccvid.dll quartz.dll
		qdvd.dll qcap.dll qedit.dll qasf.dll msdmo.dll mpg2splt.ax ksproxy.ax kswdmcap.ax devenum.dll vfwwdm32.dll
		VBICodec.ax WSTPager.ax psisdecd.dll Mpeg2Data.ax MSNP.ax MSDvbNP.ax bdaplgin.ax kstvtune.ax ksxbar.ax
		vidcap.ax wmprecal.dll l3codecp.acm msmpeg2vdec.dll msmpeg2adec.dll msmpeg2enc.dll CPFilters.dll encdec.dll
		sbe.dll`, "sound and video", "", true},
	{"windows.explorer", `
		stobject.dll webcheck.dll shell32.dll browseui.dll hgcpl.dll pnidui.dll ActionCenter.dll AltTab.dll fxsst.dll
		bthprops.cpl UIAnimation.dll wpnprv.dll PhotoMetadataHandler.dll cscui.dll EhStorShell.dll ntshrui.dll
		SyncCenter.dll wscinterop.dll prnfldr.dll SndVolSSO.dll dxp.dll netshell.dll HotStartUserAgent.dll
		windows.storage.dll windows.immersiveshell.serviceprovider.dll ieframe.dll twinui.dll`, "the desktop", toSession, true},
	{"windows.shell-extensions", `
		shell32.dll windows.storage.dll ntshrui.dll twext.dll cryptext.dll cscui.dll zipfldr.dll appresolver.dll
		acppage.dll docprop.dll syncui.dll sendmail.dll wshext.dll fontext.dll shdocvw.dll ieframe.dll srchadmin.dll
		mydocs.dll EhStorShell.dll SyncCenter.dll workfoldersshell.dll rshx32.dll dskquoui.dll printui.dll prnfldr.dll
		shlext.dll twinui.dll ppcsnap.dll cryptxml.dll deskadp.dll deskmon.dll igfxpph.dll PlayToMenu.dll
		playtomenu.dll shacct.dll wlanpref.dll shellstyle.dll sharemediacpl.cpl mpshell.dll StartTileData.dll
		provsvc.dll pnidui.dll mmcshext.dll nvshext.dll windows.ui.fileexplorer.dll explorerframe.dll efsadu.dll
		StructuredQuery.dll propsys.dll tdh.dll shpafact.dll cdfview.dll inetcomm.dll`, "the desktop", "", true},
	{"windows.open-commands", "mshtml.dll urlmon.dll itss.dll inetcomm.dll msdaipp.dll mscoree.dll wmdmps.dll", "the system's protocols", "", true},
	{"windows.telemetry-controller", "CompatTelRunner.exe devinv.dll invagent.dll appraiser.dll DeviceCensus.exe InvAgent.dll", "the system's telemetry", "", true},
	{"windows.screensaver", "*.scr", "a screen saver of the system", "", true},
}

// findWindows returns the catalogue's row for an entry of a Windows machine.
func findWindows(m *machine.Reader, e *autostart.Entry) (row, bool) {
	if e.User != "" && e.Location != "windows.screensaver" || !inWindows(m, e) {
		return row{}, false
	}
	index := windowsIndex()
	base := func(p string) string { return strings.ToLower(p[strings.LastIndexByte(p, '\\')+1:]) }
	name := base(e.Target.Path)
	switch e.Location {
	case "windows.services", "windows.drivers":
		name = base(e.Source.Path)
	case "windows.tasks":
		if _, path, ok := cutAnywhere(e.Source.Path, `\System32\Tasks`); ok && strings.HasPrefix(strings.ToLower(path), `\microsoft\windows\`) {
			return row{what: "a task of the system", location: "windows.tasks", part: true}, true
		}
		return row{}, false
	}
	for _, k := range index[e.Location] {
		for _, pattern := range k.patterns {
			if pattern == name || strings.ContainsAny(pattern, "*?") && matches(pattern, name) {
				return *k.row, true
			}
		}
	}
	return row{}, false
}

func matches(pattern, name string) bool {
	ok, _ := path.Match(pattern, name)
	return ok
}

// cutAnywhere cuts around a part of a path, without regard to case.
func cutAnywhere(s, part string) (before, after string, ok bool) {
	k := strings.Index(windata.LowerASCII(s), windata.LowerASCII(part))
	if k < 0 {
		return s, "", false
	}
	return s[:k], s[k+len(part):], true
}

// inWindows reports whether the program, as far as it is known, lies in the
// system's own folders: C:\Temp\svchost.exe is no part of the system. A program
// that is not there counts by its place.
func inWindows(m *machine.Reader, e *autostart.Entry) bool {
	p := e.Target.Path
	if p == "" || !machine.OnDrive(p) {
		// A task whose action is a class of the system, a driver of its own.
		return e.Location == "windows.tasks" || e.Location == "windows.services" && e.Command == ""
	}
	roots := []string{m.Windows() + `\System32\`, m.Windows() + `\SysWOW64\`, m.Windows() + `\servicing\`, m.Windows() + `\Microsoft.NET\`, m.Windows() + `\explorer.exe`,
		m.Windows() + `\PLA\`, m.Windows() + `\ehome\`, m.Windows() + `\regedit.exe`, m.Windows() + `\SystemApps\`, m.Windows() + `\WinSxS\`,
		m.Variable("programfiles") + `\Windows Defender`, m.Variable("programdata") + `\Microsoft\Windows Defender\`, m.Variable("programfiles") + `\Windows Media Player\`,
		m.Variable("programfiles") + `\Internet Explorer\`, m.Variable("programfiles(x86)") + `\Microsoft\Edge\Application\`}
	if _, outside := cutFold(p, m.Windows()+`\System32\Tasks\`); outside {
		return false
	}
	for _, root := range roots {
		if _, ok := cutFold(p, root); ok {
			return true
		}
	}
	return false
}

type windowsRow struct {
	row      *row
	patterns []string
}

// windowsIndex is made when the first entry is looked up: rows by location, with
// their names in small letters.
var windowsIndex = sync.OnceValue(func() map[string][]windowsRow {
	index := map[string][]windowsRow{}
	for k := range windowsCatalogue {
		r := &windowsCatalogue[k]
		index[r.location] = append(index[r.location], windowsRow{r, strings.Fields(strings.ToLower(r.names))})
	}
	return index
})
