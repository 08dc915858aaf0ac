package testkit

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/format/plist"
)

// What macOS 14 starts by itself, under its real labels, as far as they are known from published lists; no real
// disk was at hand. All of it is a part of the system; what the jobs run and when is likely, not known.

// ownDaemons are the jobs of /System/Library/LaunchDaemons whose program has the name that their label ends in,
// in /usr/libexec; with a path behind "=" where it lies elsewhere.
const ownDaemons = `
com.apple.AOSNotificationOSX com.apple.ATSServer.agent com.apple.AirPlayXPCHelper com.apple.AmbientDisplayAgent com.apple.AppleCredentialManagerDaemon com.apple.AppleFileServer
com.apple.AssetCache.builtin com.apple.AssetCacheLocatorService com.apple.AssetCacheManagerService com.apple.AssetCacheTetheratorService com.apple.AuthenticationServices.TrustedPeersHelper
com.apple.BTServer.cloudpairing com.apple.CSCSupportd com.apple.CommCenter-root com.apple.CoreAuthentication.daemon com.apple.CoreRAID com.apple.CryptoTokenKit.ahp com.apple.DataDetectorsLocalSources
com.apple.DesktopServicesHelper com.apple.DiagnosticReportCleanup com.apple.DirectoryHelper com.apple.DumpGPURestart com.apple.DumpPanic com.apple.FileCoordination com.apple.FileProvider
com.apple.FolderActionsDispatcher.root com.apple.GSSCred com.apple.GameController.gamecontrollerd com.apple.GameOverlayUI com.apple.IFCStart com.apple.IOAccelMemoryInfoCollector
com.apple.InstallerDiagnostics.installerdiagd com.apple.InstallerDiagnostics.installerdiagwatcher com.apple.InstallerProgress com.apple.KernelEventAgent com.apple.Kerberos.digest-service com.apple.Kerberos.kadmind
com.apple.Kerberos.kcm com.apple.Kerberos.kdc com.apple.Kerberos.kpasswdd com.apple.ManagedClient.cloudconfigurationd com.apple.ManagedClient.enroll com.apple.ManagedClient.startup com.apple.ManagedClient
com.apple.MobileAccessoryUpdater com.apple.MobileFileIntegrity=/usr/libexec/amfid com.apple.MRTd com.apple.NetBootClientStatus com.apple.NetworkLinkConditioner com.apple.NetworkSharing com.apple.NFSStart
com.apple.PCIELaneConfigTool com.apple.PIPAgent.root com.apple.PerfPowerServices com.apple.PerfPowerServicesExtended com.apple.PerformanceTrace com.apple.PurgeableCloudStorage com.apple.ReportPanicService
com.apple.RemotePairTunnel com.apple.SCHelper com.apple.SafeEjectGPUStartupDaemon com.apple.SchedulerService com.apple.SecurityServer com.apple.ScreenTimeAgent.root com.apple.SoftwareUpdateLauncher
com.apple.StorageKit com.apple.SubmitDiagInfo com.apple.TMCacheDelete com.apple.TrustEvaluationAgent.system com.apple.TrustedPeersHelper com.apple.UserEventAgent-System=/usr/libexec/UserEventAgent
com.apple.UserNotificationCenter com.apple.UserSyncD com.apple.WindowServer=/System/Library/PrivateFrameworks/SkyLight.framework/Resources/WindowServer com.apple.WirelessRadioManager com.apple.XProtect.daemon.scan
com.apple.XprotectFramework.PluginService com.apple.XprotectFramework.plugin com.apple.a2dpd.system com.apple.accessoryd com.apple.accessoryupdaterd com.apple.afpfs_afpLoad com.apple.afpfs_checkafp
com.apple.afk.remote com.apple.akd.system com.apple.analyticsd=/System/Library/PrivateFrameworks/CoreAnalytics.framework/Support/analyticsd com.apple.aned com.apple.aneuserd.system com.apple.apfsd com.apple.appinstalld
com.apple.applessdstatistics com.apple.appstored.system com.apple.apsd com.apple.arkaudiod com.apple.assetsubscriptiond com.apple.audio.AudioComponentRegistrar.daemon com.apple.audio.coreaudiod=/usr/sbin/coreaudiod
com.apple.audio.systemsoundserverd com.apple.auditd com.apple.authd com.apple.automountd=/usr/libexec/automountd com.apple.autofsd com.apple.avbdeviced com.apple.awacsd com.apple.awdd com.apple.backgroundassets.managed
com.apple.backgroundtaskmanagementd com.apple.backupd com.apple.backupd-helper com.apple.biokitaggdd com.apple.biometrickitd com.apple.blued com.apple.bluetoothd=/usr/sbin/bluetoothd com.apple.bluetoothReporter
com.apple.bootinstalld com.apple.bosreporter com.apple.boswatcher com.apple.cache_delete com.apple.captiveagent com.apple.cdscheduler com.apple.cfprefsd.xpc.daemon=/usr/sbin/cfprefsd com.apple.chronod.system
com.apple.ckdiscretionaryd com.apple.cloudd.system com.apple.cmio.AppleCameraAssistant com.apple.cmio.AVCAssistant com.apple.cmio.IIDCVideoAssistant com.apple.cmio.VDCAssistant com.apple.cmio.registerassistantservice.system
com.apple.colorsync.displayservices com.apple.colorsyncd com.apple.commerced.system com.apple.configd com.apple.configureLocalKDC com.apple.contextstored com.apple.corebrightnessd com.apple.coreduetd
com.apple.corekdld com.apple.coreservices.appleevents=/System/Library/CoreServices/appleeventsd com.apple.coreservices.appleid.authentication com.apple.coreservices.launchservicesd=/System/Library/CoreServices/launchservicesd
com.apple.coreservices.sharedfilelistd com.apple.coreservicesd=/System/Library/CoreServices/coreservicesd com.apple.corespeechd.system com.apple.corestorage.corestoraged com.apple.corestorage.corestoragehelperd
com.apple.coresymbolicationd com.apple.crypto.securityd com.apple.cryptexd com.apple.csrutil.report com.apple.ctkd com.apple.cvmsServ com.apple.dasd com.apple.datamigrator com.apple.dbdiagnose com.apple.deleted_helper
com.apple.devicecheckd com.apple.diagnosticd com.apple.diagnosticextensions.osx.timemachine.helper com.apple.diagnosticservicesd com.apple.diskarbitrationd com.apple.diskmanagementd com.apple.diskmanagementstartup
com.apple.displaypolicyd com.apple.distnoted.xpc.daemon=/usr/sbin/distnoted com.apple.dmd com.apple.dpaudiothru com.apple.driver.eficheck com.apple.driverkitd com.apple.dspluginhelperd com.apple.dvdplayback.setregion
com.apple.dynamic_pager com.apple.efilogin-helper com.apple.emlog com.apple.endpointsecurity.endpointsecurityd com.apple.eoshostd com.apple.ethcheck com.apple.familycontrols com.apple.fdesetup.helper
com.apple.findmy.findmybeaconingd com.apple.findmymac com.apple.findmymacmessenger com.apple.firmwaresyncd com.apple.fontd.system com.apple.fontmover com.apple.fpsd com.apple.fseventsd=/System/Library/Frameworks/CoreServices.framework/Versions/A/Frameworks/FSEvents.framework/Versions/A/Support/fseventsd
com.apple.fskit.fskitd com.apple.ftp-proxy com.apple.gkreport com.apple.gssd com.apple.hdiejectd com.apple.hidd com.apple.icloud.findmydeviced com.apple.icloud.searchpartyd com.apple.iconservices.iconservicesagent.system
com.apple.iconservices.iconservicesd com.apple.idamsd com.apple.IOBluetoothUSBDFU com.apple.installandsetup.systemmigrationd com.apple.installcoordinationd com.apple.installd com.apple.intelligenceplatform.IntelligencePlatformComputeService
com.apple.ionodecache com.apple.iosurfaceserverd com.apple.jetsamproperties.Mac com.apple.kcproxy com.apple.kdc.listener com.apple.keybagd=/usr/libexec/keybagd com.apple.kernelmanagerd com.apple.kextd com.apple.kuncd
com.apple.liquiddetectiond com.apple.locate com.apple.locationd com.apple.lockoutagent com.apple.logd=/usr/libexec/logd com.apple.logd_helper com.apple.logd_reporter com.apple.logind com.apple.loginwindow=/System/Library/CoreServices/loginwindow.app/Contents/MacOS/loginwindow
com.apple.lsd=/usr/libexec/lsd com.apple.lskdd com.apple.lskdmsed com.apple.mDNSResponder.reloaded=/usr/sbin/mDNSResponder com.apple.mDNSResponderHelper.reloaded com.apple.manageddevice com.apple.mbsystemadministration
com.apple.mbusertrampoline com.apple.mdmclient.daemon com.apple.mdmclient.daemon.runatboot com.apple.mediaremoted com.apple.metadata.mds=/System/Library/Frameworks/CoreServices.framework/Frameworks/Metadata.framework/Support/mds
com.apple.metadata.mds.index com.apple.metadata.mds.scan com.apple.metadata.mds.spindump com.apple.mobile.keybagd com.apple.mobile.softwareupdated com.apple.mobileactivationd com.apple.mobileassetd com.apple.modelcatalogd
com.apple.modelmanagerd com.apple.mtmd com.apple.mtmfs com.apple.multiversed com.apple.nearbyd com.apple.nehelper com.apple.nesessionmanager com.apple.netauth.sys.auth com.apple.netauth.sys.gui com.apple.netbiosd
com.apple.networkserviceproxy com.apple.newsyslog com.apple.nfcd com.apple.nfrestore com.apple.nfsconf com.apple.nlcd com.apple.noticeboard.state com.apple.notifyd=/usr/sbin/notifyd com.apple.nsurlsessiond
com.apple.nsurlstoraged com.apple.ocspd com.apple.odproxyd com.apple.online-auth-agent com.apple.opendirectoryd com.apple.osanalytics.osanalyticshelper com.apple.parentalcontrols.check com.apple.pfctl com.apple.pfd
com.apple.platform_ptmd com.apple.postfix.master com.apple.postfix.newaliases com.apple.powerd com.apple.powerdatad com.apple.powerlogHelperd com.apple.powerui.PowerUIAgent.system com.apple.ppd.daemon com.apple.ptpd
com.apple.rapportd com.apple.recoverylogd com.apple.relatived com.apple.remoted com.apple.remotemanagementd com.apple.replayd.system com.apple.revisiond com.apple.rootless.init com.apple.rpcbind com.apple.rpcsvchost
com.apple.rpmuxd com.apple.RTKitd com.apple.sandboxd com.apple.screensharing.registration com.apple.secd.system com.apple.secinitd com.apple.security.FDERecoveryAgent com.apple.security.authhost com.apple.security.syspolicy
com.apple.securityd_service com.apple.seserviced com.apple.sessionlogoutd com.apple.shazamd.system com.apple.siriinferenced.system com.apple.smb.preferences com.apple.smd com.apple.softwareupdate_firstrun_tasks
com.apple.softwareupdated com.apple.spindump com.apple.statd.notify com.apple.storagekitd com.apple.storeaccountd.daemon com.apple.storereceiptinstaller com.apple.structuredlogging com.apple.suhelperd
com.apple.symptomsd com.apple.symptomsd-diag com.apple.syncdefaultsd.system com.apple.sysdiagnose com.apple.sysextd com.apple.sysmond com.apple.syspolicyd com.apple.systemstats.daily com.apple.systemstats.analysis
com.apple.systemstatusd com.apple.tailspind com.apple.taskgated com.apple.tccd.system com.apple.thermald com.apple.thermalmonitord com.apple.timed com.apple.timezoneupdates.tzd com.apple.touchbarserver
com.apple.triald.system com.apple.trustd com.apple.TrustedSystemAdministration com.apple.tzlinkd com.apple.ucupdate.plist com.apple.uninstalld com.apple.unmountassistant.sysagent com.apple.usbctelemetryd com.apple.usbd
com.apple.usbmuxd com.apple.usernoted.system com.apple.uuidd com.apple.video.AppleAVEServer com.apple.var-db-dslocal-backup com.apple.var-db-shadow-backup com.apple.vsdbutil com.apple.warmd com.apple.watchdogd
com.apple.wifi.WiFiAgent.system com.apple.wifianalyticsd com.apple.wifip2pd com.apple.wifivelocityd com.apple.wwand com.apple.xpc.roleaccountd com.apple.xpc.smd com.apple.xpc.uscwoap com.apple.xsan com.apple.xsandaily
com.apple.airportd=/usr/libexec/airportd com.apple.cupsd=/usr/sbin/cupsd com.apple.lanuguageassetd com.apple.periodic-daily=/usr/libexec/periodic-wrapper com.apple.periodic-weekly=/usr/libexec/periodic-wrapper com.apple.periodic-monthly=/usr/libexec/periodic-wrapper
com.vix.cron=/usr/sbin/cron org.cups.cups-lpd com.apple.alf=/usr/libexec/ApplicationFirewall/socketfilterfw com.apple.containermanagerd com.apple.containermanagerd_system com.apple.contacts.postersyncd
com.apple.triald com.apple.usermanagerhelper com.apple.tipsd.system
`

// offDaemons are those that a fresh Mac has off: by their own file.
const offDaemons = `
com.openssh.sshd=/usr/sbin/sshd com.apple.screensharing com.apple.smbd=/usr/sbin/smbd com.apple.AEServer org.apache.httpd=/usr/sbin/httpd com.apple.nfsd=/sbin/nfsd com.apple.atrun=/usr/libexec/atrun com.apple.tftpd
com.apple.bootpd com.apple.InternetSharing com.apple.nmbd org.net-snmp.snmpd=/usr/sbin/snmpd com.apple.ftpd com.apple.telnetd com.apple.rexd com.apple.eapolcfg_auth com.apple.msrpc.netlogon com.apple.afpd
`

// ownAgents are the jobs of /System/Library/LaunchAgents, which run for each user.
const ownAgents = `
com.apple.AMPArtworkAgent com.apple.AMPDeviceDiscoveryAgent com.apple.AMPDevicesAgent com.apple.AMPDownloadAgent com.apple.AMPLibraryAgent com.apple.AOSHeartbeat com.apple.AOSPushRelay com.apple.AccessibilityVisualsAgent
com.apple.AddressBook.AssistantService com.apple.AddressBook.ContactsAccountsService com.apple.AddressBook.SourceSync com.apple.AddressBook.abd com.apple.AirPlayUIAgent com.apple.AirPortBaseStationAgent
com.apple.AppSSOAgent com.apple.AppStoreDaemon.StorePrivilegedODRService com.apple.AppleGraphicsWarning com.apple.AskPermissionUI com.apple.AssistiveControl com.apple.BTServer.cloudpairing.agent com.apple.BluetoothUIService
com.apple.BezelUIServer com.apple.CallHistoryPluginHelper com.apple.CallHistorySyncHelper com.apple.CalendarAgent com.apple.CommCenter com.apple.ContactsAgent com.apple.ContextStoreAgent com.apple.ControlCenter
com.apple.ControlStrip com.apple.CoreAuthentication.agent com.apple.CoreLocationAgent com.apple.DictationIM com.apple.DiagnosticReportCleanup.agent com.apple.DiskArbitrationAgent com.apple.Dock.agent=/System/Library/CoreServices/Dock.app/Contents/MacOS/Dock
com.apple.DwellControl com.apple.EscrowSecurityAlert com.apple.FTCleanup com.apple.FileStatsAgent com.apple.FilesystemUI com.apple.Finder=/System/Library/CoreServices/Finder.app/Contents/MacOS/Finder com.apple.FolderActionsDispatcher
com.apple.FollowUpUI com.apple.FontRegistryUIAgent com.apple.FontValidator com.apple.FontWorker com.apple.GameController.gamecontrolleragentd com.apple.HeadphoneAgent com.apple.HotKeys com.apple.IMLoggingAgent
com.apple.KeyboardAccessAgent com.apple.Keychain-Circle-Notification com.apple.LocalAuthentication.UIAgent com.apple.Maps.mapspushd com.apple.Maps.pushdaemon com.apple.ManagedClientAgent.agent
com.apple.ManagedClientAgent.enrollagent com.apple.MCXAgent com.apple.MTLAssetUpgraderD com.apple.NVMeAgent com.apple.NetworkDiagnostics com.apple.NowPlayingTouchUI com.apple.OSDUIHelper com.apple.PCIESlotCheck
com.apple.PIPAgent com.apple.PackageKit.InstallStatus com.apple.PaperKit.extension com.apple.PhotoLibraryMigrationUtility.XPC com.apple.PhotosTouchBar com.apple.Safari.History com.apple.Safari.SafeBrowsing.Service
com.apple.SafariBookmarksSyncAgent com.apple.SafariCloudHistoryPushAgent com.apple.SafariHistoryServiceAgent com.apple.SafariLaunchAgent com.apple.SafariNotificationAgent com.apple.SafariPlugInUpdateNotifier
com.apple.ScreenReaderUIServer com.apple.ScreenTimeAgent com.apple.SharingServicesAgent com.apple.ShortcutsMacHelper com.apple.Siri.agent com.apple.SidecarDisplayAgent com.apple.SidecarRelay com.apple.SoftwareUpdateNotificationManager
com.apple.SpacesTouchBarAgent com.apple.SpeechRecognitionCore.brokerd com.apple.SpeechRecognitionCore.speechrecognitiond com.apple.SSInvitationAgent com.apple.Spotlight com.apple.StorageManagementUIHelper
com.apple.SystemUIServer.agent com.apple.TMHelperAgent com.apple.TextInputMenuAgent com.apple.TextInputSwitcher com.apple.TrustEvaluationAgent com.apple.UIKitSystemApp com.apple.UniversalAccessControl
com.apple.UserEventAgent-Aqua=/usr/libexec/UserEventAgent com.apple.UserEventAgent-LoginWindow com.apple.UserNotificationCenterAgent com.apple.UserPictureSyncAgent com.apple.UsageTrackingAgent com.apple.ViewBridgeAuxiliary
com.apple.VoiceOver com.apple.WallpaperAgent com.apple.WebKit.PluginAgent com.apple.WiFiVelocityAgent com.apple.WorkflowKit.BackgroundShortcutRunner com.apple.ZoomWindow com.apple.accessibility.AXVisualSupportAgent
com.apple.accessibility.axassetsd com.apple.accessibility.mediaaccessibilityd com.apple.accountsd com.apple.adid com.apple.adprivacyd com.apple.akd com.apple.alertserver com.apple.amp.mediasharingd com.apple.amsaccountsd
com.apple.amsengagementd com.apple.ap.adprivacyd com.apple.appleseed.seedusaged com.apple.appstoreagent com.apple.askpermissiond com.apple.assistant_cdmd com.apple.assistant_service com.apple.assistantd
com.apple.audio.AudioComponentRegistrar com.apple.avatarsd com.apple.avconferenced com.apple.backgroundtaskmanagement.agent com.apple.bird com.apple.biomed.agent com.apple.biomesyncd com.apple.bookassetd
com.apple.bookdatastored com.apple.calaccessd com.apple.callservicesd com.apple.cdpd com.apple.cfnetwork.AuthBrokerAgent com.apple.cfnetwork.cfnetworkagent com.apple.cfprefsd.xpc.agent=/usr/sbin/cfprefsd com.apple.chronod
com.apple.ckkeyrolld com.apple.classroom.studentd com.apple.cloudd com.apple.cloudpaird com.apple.cloudphotod com.apple.cloudsettingssyncagent com.apple.cmfsyncagent com.apple.cmio.ContinuityCaptureAgent
com.apple.colorsync.useragent com.apple.commerce com.apple.communicationnotificationd com.apple.companiond com.apple.contacts.donation-agent com.apple.contextualactionsd com.apple.coredatad com.apple.corerecents.recentsd
com.apple.coreservices.UASharedPasteboardProgressUI com.apple.coreservices.sharedfilelistd.agent com.apple.coreservices.uiagent com.apple.coreservices.useractivityd com.apple.corespotlightd com.apple.corespotlightservice
com.apple.csuseragent com.apple.ctkbind com.apple.ctkd.agent com.apple.cvmsCompAgent_arm64 com.apple.dataaccess.dataaccessd com.apple.datadetectors.sourceupdated com.apple.dataexchanged com.apple.devicecheckd.agent
com.apple.diagnostics_agent com.apple.diskspaced com.apple.distnoted.xpc.agent=/usr/sbin/distnoted com.apple.dmd.agent com.apple.dprivacyd com.apple.ensemble com.apple.eventkitsyncd com.apple.exchange.exchangesyncd
com.apple.familycircled com.apple.familycontrols.useragent com.apple.familynotificationd com.apple.fileproviderd com.apple.findmy.findmylocateagent com.apple.findmymacmessenger.agent com.apple.followupd com.apple.fontd.useragent
com.apple.fontvalidator.agent com.apple.frauddefensed com.apple.freeformd com.apple.fullkeyboardaccess com.apple.gamed com.apple.generativeexperiencesd com.apple.geodMachServiceBridge com.apple.geoanalyticsd com.apple.handwritingd
com.apple.helpd com.apple.homed com.apple.homeenergyd com.apple.icdd com.apple.icloud.findmydeviced.findmydevice-user-agent com.apple.icloud.fmfd com.apple.icloud.searchpartyuseragent com.apple.icloudmailagent
com.apple.iCloudNotificationAgent com.apple.iCloudUserNotifications com.apple.iTunesCloudd com.apple.iconservices.iconservicesagent com.apple.identityservicesd com.apple.idsremoteurlconnectionagent com.apple.imagent
com.apple.imautomatichistorydeletionagent com.apple.imcore.imtransferagent com.apple.imklaunchagent com.apple.imtranscoderagent com.apple.inputanalyticsd com.apple.installandsetup.migrationhelper.user com.apple.intelligenceplatformd
com.apple.intents.helper com.apple.itunescloudd com.apple.java.InstallOnDemandAgent com.apple.keyboardservicesd com.apple.knowledge-agent com.apple.knowledgeconstructiond com.apple.linkd com.apple.locationmenu
com.apple.loginwindow.LWWeeklyMessageTracer com.apple.lsd.agent com.apple.mail.emaild com.apple.maild com.apple.managedappdistributionagent com.apple.managedconfiguration.profiles com.apple.mapssyncd com.apple.mbbackgrounduseragent
com.apple.mbfloagent com.apple.mbproximityhelper com.apple.mbuseragent com.apple.mdmclient.agent com.apple.mdworker.32bit com.apple.mdworker.bundles com.apple.mdworker.mail com.apple.mdworker.shared com.apple.mdworker.single
com.apple.mdworker.sizing com.apple.mediaanalysisd com.apple.mediacontinuityd com.apple.mediaremoteagent com.apple.mediastream.mstreamd com.apple.menuextra.battery.helper com.apple.metadata.mdbulkimport com.apple.metadata.mdflagwriter
com.apple.metadata.mdwrite com.apple.mlhostd com.apple.mlruntimed com.apple.mobiledeviceupdater com.apple.modelcatalogagent com.apple.naturallanguaged com.apple.navd com.apple.ndoagent com.apple.neagent com.apple.netauth.user.auth
com.apple.netauth.user.gui com.apple.networkserviceproxy.agent com.apple.newsd com.apple.nexusd com.apple.noticeboard.agent com.apple.notificationcenterui.agent com.apple.nsattributedstringagent com.apple.nsurlsessiond.agent
com.apple.online-auth-agent.user com.apple.parentalcontrols.check.agent com.apple.parsec-fbf com.apple.parsecd com.apple.passd com.apple.pbs com.apple.peopled com.apple.personad com.apple.photoanalysisd com.apple.photolibraryd
com.apple.pictd com.apple.pluginkit.pkd com.apple.pluginkit.pkreporter com.apple.podcasts.PodcastContentService com.apple.powerchime com.apple.ppd com.apple.printtool.agent com.apple.privatecloudcomputed com.apple.proactiveeventtrackerd
com.apple.progressd com.apple.protectedcloudstorage.protectedcloudkeysyncing com.apple.ptpcamerad com.apple.quicklook com.apple.quicklook.32bit com.apple.quicklook.ThumbnailsAgent com.apple.quicklook.ui.helper com.apple.rapportd-user
com.apple.rcd com.apple.recentsd com.apple.remindd com.apple.replayd com.apple.replicatord com.apple.reversetemplated com.apple.routined com.apple.rtcreportingd com.apple.safaridavclient com.apple.safarifetcherd
com.apple.scopedbookmarkagent com.apple.screencaptureui.agent com.apple.screensharing.MessagesAgent com.apple.screensharing.agent com.apple.screensharing.menuextra com.apple.scrod com.apple.secd com.apple.secinitd.agent
com.apple.security.DiskUnmountWatcher com.apple.security.KeychainStasher com.apple.security.XPCKeychainSandboxCheck com.apple.security.agent com.apple.security.authhost.agent com.apple.security.cloudkeychainproxy3
com.apple.security.keychain-circle-notification com.apple.sessionlogoutd.agent com.apple.sharingd com.apple.shazamd com.apple.sidecar-hid-relay com.apple.signpost.signpost_reporter com.apple.siriactionsd com.apple.siriinferenced
com.apple.siriknowledged com.apple.soagent com.apple.sociallayerd com.apple.speech.speechdatainstallerd com.apple.speech.speechsynthesisd com.apple.speech.synthesisserver com.apple.spindump_agent com.apple.spotlightknowledged
com.apple.spotlightknowledged.updater com.apple.storeaccountd com.apple.storeassetd com.apple.storedownloadd com.apple.storeinstalld com.apple.storelegacy com.apple.storeuid com.apple.suggestd com.apple.swcd com.apple.symptomsd.agent
com.apple.syncdefaultsd com.apple.syncservices.SyncServer com.apple.syncservices.uihandler com.apple.synapse.contentlinkingd com.apple.syspolicy.agent com.apple.systemprofiler com.apple.tccd com.apple.telephonyutilities.callservicesd
com.apple.thermaltrap com.apple.tipsd com.apple.tiswitcher com.apple.tonelibraryd com.apple.touristd com.apple.translationd com.apple.transparencyd com.apple.triald.agent com.apple.trustd.agent com.apple.trustedpeershelper.agent
com.apple.universalaccessAuthWarn com.apple.universalaccesscontrol com.apple.universalaccessd com.apple.unmountassistant.useragent com.apple.upbd com.apple.usbctelemetryd.agent com.apple.uikitsystemapp com.apple.usernoted com.apple.useractivityd.agent
com.apple.videosubscriptionsd com.apple.voicebankingd com.apple.voicememod com.apple.wallpaper.agent com.apple.watchlistd com.apple.weatherd com.apple.webinspectord com.apple.webkit.webpushd com.apple.webprivacyd com.apple.wifi.WiFiAgent
com.apple.xpc.loginitemregisterd com.apple.xpc.otherbsd com.openssh.ssh-agent=/usr/bin/ssh-agent
`

// The ids of the Mac's accounts.
const (
	MacIDOfSystem = "FFFFEEEE-DDDD-CCCC-BBBB-AAAAFFFFFFFE"
	macIDOf       = "0D1F5A17-ABCD-4001-8314-000000000%d"
)

// MacAsItIs builds a disk of a plain macOS 14 with two users, and more files, named by their paths: texts, bytes,
// or the root of a property list.
func MacAsItIs(t testing.TB, files map[string]any) string {
	t.Helper()
	type dict = map[string]any
	type list = []any
	root := t.TempDir()
	all := dict{
		"/System/Library/CoreServices/SystemVersion.plist": dict{"ProductName": "macOS",
			"ProductVersion": "14.6.1", "ProductBuildVersion": "23G93"},
		"/Library/Preferences/SystemConfiguration/preferences.plist": dict{
			"System": dict{"System": dict{"ComputerName": "Plain Mac"}}},
		"/private/etc/hosts": "", "/private/etc/zprofile": zprofile, "/private/etc/profile": profile,
		"/private/etc/bashrc": bashrc, "/sbin/launchd": "", "/bin/zsh": "",
		"/private/etc/periodic.conf": "", "/private/var/db/com.apple.xpc.launchd/disabled.plist": dict{
			"com.apple.ftpd": true, "com.apple.telnetd": true, "com.apple.mdmclient.daemon.runatboot": true,
			"com.apple.CSCSupportd": true, "com.apple.relatived": true},
		"/private/var/db/auth.db": authDatabase(t),
		"/private/var/db/com.apple.backgroundtaskmanagement/BackgroundItems-v13.btm": noBackgroundItems(),
	}
	for k, name := range []string{"ines", "bram"} {
		uid, home := 501+k, "/Users/"+name
		all["/private/var/db/dslocal/nodes/Default/users/"+name+".plist"] = dict{"name": list{name},
			"uid": list{fmt.Sprint(uid)}, "gid": list{"20"}, "home": list{home},
			"generateduid": list{fmt.Sprintf(macIDOf, uid)}}
		all[fmt.Sprintf("/private/var/db/com.apple.xpc.launchd/disabled.%d.plist", uid)] = dict{}
		all[home+
			"/Library/Preferences/ByHost/com.apple.loginwindow.1887C0DE-0314-4092-A653-5A17ABCDEF03.plist"] = dict{}
		all[home+"/Library/Safari/Extensions/x"] = ""
	}
	for _, service := range []struct{ name, home string }{{"root", "/var/root"}, {"daemon", "/var/root"},
		{"nobody", "/var/empty"}, {"_www", "/Library/WebServer"}, {"_spotlight", "/var/empty"},
		{"_mbsetupuser", "/var/setup"}} {
		uid := map[string]string{"root": "0", "daemon": "1", "nobody": "-2", "_www": "70", "_spotlight": "89",
			"_mbsetupuser": "248"}[service.name]
		all["/private/var/db/dslocal/nodes/Default/users/"+service.name+".plist"] = dict{"name": list{service.name},
			"uid": list{uid}, "gid": list{"20"}, "home": list{service.home}}
	}
	job := func(folder, labels string, more dict) {
		for label := range strings.FieldsSeq(labels) {
			label, program, _ := strings.Cut(label, "=")
			if program == "" {
				program = "/usr/libexec/" + label[strings.LastIndexByte(label, '.')+1:]
			}
			j := dict{"Label": label, "Program": program, "ProgramArguments": list{program},
				"MachServices": dict{label: true}, "EnablePressuredExit": true}
			for k, v := range more {
				j[k] = v
			}
			all[folder+label+".plist"], all[program] = j, ""
		}
	}
	job("/System/Library/LaunchDaemons/", ownDaemons, dict{"RunAtLoad": true})
	job("/System/Library/LaunchDaemons/", offDaemons, dict{"Disabled": true})
	job("/System/Library/LaunchAgents/", ownAgents, dict{"RunAtLoad": true, "LimitLoadToSessionType": list{"Aqua"}})
	for _, dir := range []string{"/Library/LaunchDaemons/.keep", "/Library/LaunchAgents/.keep",
		"/Library/StartupItems/.keep", "/Library/Extensions/.keep", "/Applications/Utilities/.localized",
		"/private/var/at/tabs/.keep"} {
		all[dir] = ""
	}
	for name, content := range files {
		all[name] = content
	}
	for name, content := range all {
		file := filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		var b []byte
		switch c := content.(type) {
		case string:
			b = []byte(c)
		case []byte:
			b = c
		default:
			doc := plist.New(c)
			doc.Form = plist.Binary
			var err error
			b, err = doc.Bytes()
			require.NoError(t, err, name)
		}
		require.NoError(t, os.WriteFile(file, b, 0o644))
	}
	return root
}

// Files of /etc as macOS has them.
const (
	zprofile = "# System-wide profile for interactive zsh(1) shells.\n\n# Setup user specific overrides for this " +
		"in ~/.zprofile. See zshbuiltins(1)\n# and zshoptions(1) for more details.\n\nif [ -x /usr/libexec/path_helper ]; then\n\teval `/usr/libexec/path_helper -s`\nfi\n"
	profile = "# System-wide .profile for sh(1)\n\nif [ -x /usr/libexec/path_helper ]; then\n\teval " +
		"`/usr/libexec/path_helper -s`\nfi\n\nif [ \"${BASH-no}\" != \"no\" ]; then\n\t[ -r /etc/bashrc ] && . /etc/bashrc\nfi\n"
	bashrc = "# System-wide .bashrc file for interactive bash(1) shells.\nif [ -z \"$PS1\" ]; then\n   " +
		"return\nfi\n\nPS1='\\h:\\W \\u\\$ '\n# Make bash check its window size after a process completes\nshopt -s checkwinsize\n\n[ -r \"/etc/bashrc_$TERM_PROGRAM\" ] && . \"/etc/bashrc_$TERM_PROGRAM\"\n"
)

// noBackgroundItems is the database of background items of a Mac on which nobody installed anything.
func noBackgroundItems() any {
	type dict = map[string]any
	type list = []any
	class := func(name string) dict { return dict{"$classname": name, "$classes": list{name, "NSObject"}} }
	objects := list{"$null", // 0
		dict{"$class": plist.UID(5), "itemsByUserIdentifier": plist.UID(2)},                           // 1
		dict{"$class": plist.UID(6), "NS.keys": list{plist.UID(3)}, "NS.objects": list{plist.UID(4)}}, // 2
		MacIDOfSystem, // 3
		dict{"$class": plist.UID(7), "NS.objects": list{}}, // 4
		class("Storage"), class("NSDictionary"), class("NSArray"), // 5 to 7
	}
	return dict{"$archiver": "NSKeyedArchiver", "$version": uint64(100000), "$top": dict{"store": plist.UID(1),
		"version": uint64(13)}, "$objects": objects}
}

// authDatabase is the database of rights with the tables that authd makes, and what decides about the sign-in
// window.
func authDatabase(t testing.TB) []byte {
	t.Helper()
	statements := []string{
		"CREATE TABLE config (key TEXT PRIMARY KEY NOT NULL, value)",
		"CREATE TABLE rules (id INTEGER PRIMARY KEY AUTOINCREMENT NOT NULL, name TEXT UNIQUE NOT NULL, type " +
			"INTEGER NOT NULL, class INTEGER NOT NULL, [group] TEXT, kofn INTEGER, timeout INTEGER, flags INTEGER, " +
			"tries INTEGER, version INTEGER NOT NULL DEFAULT 0, created REAL NOT NULL DEFAULT 0, modified REAL NOT " +
			"NULL DEFAULT 0, hash BLOB, identifier TEXT, requirement BLOB, comment TEXT)",
		"CREATE TABLE rules_history (timestamp REAL, rule TEXT, version INTEGER, source TEXT, operation INTEGER)",
		"CREATE TABLE mechanisms (id INTEGER PRIMARY KEY AUTOINCREMENT NOT NULL, plugin TEXT NOT NULL, param TEXT " +
			"NOT NULL, privileged INTEGER CHECK (privileged = 0 OR privileged = 1))",
		"CREATE UNIQUE INDEX mechanisms_idx ON mechanisms (plugin, param, privileged)",
		"CREATE TABLE mechanisms_map (r_id INTEGER NOT NULL, m_id INTEGER NOT NULL, ord INTEGER NOT NULL)",
		"CREATE TABLE delegates_map (r_id INTEGER NOT NULL, d_id INTEGER NOT NULL, ord INTEGER NOT NULL)",
		"CREATE TABLE prompts (r_id INTEGER NOT NULL, lang TEXT NOT NULL, value TEXT NOT NULL)",
		"CREATE TABLE buttons (r_id INTEGER NOT NULL, lang TEXT NOT NULL, value TEXT NOT NULL)",
		"INSERT INTO rules (id, name, type, class) VALUES (1, 'system.login.console', 1, 2), (2, 'authenticate', 2, 2)",
	}
	for k, m := range []string{"builtin:policy-banner", "loginwindow:login", "builtin:login-begin",
		"builtin:reset-password", "loginwindow:FDESupport", "builtin:forward-login", "builtin:auto-login",
		"builtin:authenticate", "PKINITMechanism:auth",
		"builtin:login-success", "loginwindow:success", "HomeDirMechanism:login", "HomeDirMechanism:status",
		"MCXMechanism:login", "CryptoTokenKit:login", "PSSOAuthPlugin:login-auth", "loginwindow:done"} {
		plugin, param, _ := strings.Cut(m, ":")
		statements = append(statements, fmt.Sprintf("INSERT INTO mechanisms VALUES (%d, '%s', '%s', 0)", k+1, plugin,
			param), fmt.Sprintf("INSERT INTO mechanisms_map VALUES (1, %d, %d)", k+1, k))
	}
	return Database(t, statements...)
}
