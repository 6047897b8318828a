package finding

import "strings"

// Code is the stable name of a finding's conclusion, "stage.what": scripts and reports rely on it. Each code has a
// page (pages.txt), and no decision compares its text.
type Code string

// Area is the code's first word: most often the stage that makes the finding.
func (c Code) Area() string {
	area, _, _ := strings.Cut(string(c), ".")
	return area
}

// MayPass reports whether the condition may pass by itself.
func (c Code) MayPass() bool {
	page, ok := PageOf(c)
	return ok && page.Passing
}

// GivesWay reports whether the next of several hosts is tried after a finding of this code: the host was not reached,
// does not serve, or is not the wanted one.
func (c Code) GivesWay() bool {
	switch c.Area() {
	case "hop", "name", "reach", "speak":
		return true
	}
	return c == SessionServerFull || c == SessionTarget
}

// Is reports whether the finding has one of the codes. A nil finding has none.
func (f *Finding) Is(codes ...Code) bool {
	if f == nil {
		return false
	}
	for _, code := range codes {
		if f.Code == code {
			return true
		}
	}
	return false
}

// The codes of profile.
const (
	ProfileIncomplete     Code = "profile.incomplete"
	ProfileConflict       Code = "profile.conflict"
	ProfileEngine         Code = "profile.engine"
	ProfileFileNotVouched Code = "profile.file-not-vouched"
	ProfileVariable       Code = "profile.variable"
	ProfileTLSFile        Code = "profile.tls-file"
	ProfileNotVouched     Code = "profile.not-vouched"
)

// The codes of secret.
const (
	SecretMissing        Code = "secret.missing"
	SecretNoMatch        Code = "secret.no-match"
	SecretPermissions    Code = "secret.permissions"
	SecretUnreadable     Code = "secret.unreadable"
	SecretNoTerminal     Code = "secret.no-terminal"
	SecretCommandFailed  Code = "secret.command-failed"
	SecretAnyHost        Code = "secret.any-host"
	SecretBoundElsewhere Code = "secret.bound-elsewhere"
	SecretAmbiguous      Code = "secret.ambiguous"
	SecretNoKeyring      Code = "secret.no-keyring"
)

// The codes of wallet.
const (
	WalletMissing       Code = "wallet.missing"
	WalletUnreadable    Code = "wallet.unreadable"
	WalletPermissions   Code = "wallet.permissions"
	WalletDamaged       Code = "wallet.damaged"
	WalletFormat        Code = "wallet.format"
	WalletPassphrase    Code = "wallet.passphrase"
	WalletForged        Code = "wallet.forged"
	WalletRolledBack    Code = "wallet.rolled-back"
	WalletForked        Code = "wallet.forked"
	WalletLocked        Code = "wallet.locked"
	WalletNoAnswer      Code = "wallet.no-answer"
	WalletOther         Code = "wallet.other"
	WalletPin           Code = "wallet.pin"
	WalletReaderRemoved Code = "wallet.reader-removed"
	WalletMemory        Code = "wallet.memory"
)

// The codes of hop.
const (
	HopConfig          Code = "hop.config"
	HopConfigIgnored   Code = "hop.config-ignored"
	HopNameUnknown     Code = "hop.name-unknown"
	HopRefused         Code = "hop.refused"
	HopTimeout         Code = "hop.timeout"
	HopUnreachable     Code = "hop.unreachable"
	HopFailed          Code = "hop.failed"
	HopSilent          Code = "hop.silent"
	HopClosed          Code = "hop.closed"
	HopNotSsh          Code = "hop.not-ssh"
	HopHostKeyUnknown  Code = "hop.host-key-unknown"
	HopHostKeyChanged  Code = "hop.host-key-changed"
	HopHostKeyRevoked  Code = "hop.host-key-revoked"
	HopHostCertificate Code = "hop.host-certificate"
	HopKnownHosts      Code = "hop.known-hosts"
	HopAlgorithms      Code = "hop.algorithms"
	HopOldAlgorithms   Code = "hop.old-algorithms"
	HopKeyMissing      Code = "hop.key-missing"
	HopKeyUnreadable   Code = "hop.key-unreadable"
	HopKeyPermissions  Code = "hop.key-permissions"
	HopKeyPassphrase   Code = "hop.key-passphrase"
	HopKeyNotPrivate   Code = "hop.key-not-private"
	HopKeyRefused      Code = "hop.key-refused"
	HopPasswordRefused Code = "hop.password-refused"
	HopQuestions       Code = "hop.questions"
	HopLogin           Code = "hop.login"
	HopTooManyFailures Code = "hop.too-many-failures"
	HopForwardRefused  Code = "hop.forward-refused"
	HopDropped         Code = "hop.dropped"
	HopProxyLogin      Code = "hop.proxy-login"
	HopProxyClear      Code = "hop.proxy-clear"
	HopNotProxy        Code = "hop.not-proxy"
)

// The codes of container.
const (
	ContainerUnknown       Code = "container.unknown"
	ContainerAmbiguous     Code = "container.ambiguous"
	ContainerStopped       Code = "container.stopped"
	ContainerRestarting    Code = "container.restarting"
	ContainerStarting      Code = "container.starting"
	ContainerUnhealthy     Code = "container.unhealthy"
	ContainerUnpublished   Code = "container.unpublished"
	ContainerPortTaken     Code = "container.port-taken"
	ContainerNameTaken     Code = "container.name-taken"
	ContainerNoVolume      Code = "container.no-volume"
	ContainerNoEngine      Code = "container.no-engine"
	ContainerNoPermission  Code = "container.no-permission"
	ContainerEngineSlow    Code = "container.engine-slow"
	ContainerEngineOld     Code = "container.engine-old"
	ContainerEngineTLS     Code = "container.engine-tls"
	ContainerEngineRefused Code = "container.engine-refused"
	ContainerEngineBroken  Code = "container.engine-broken"
	ContainerEndpoint      Code = "container.endpoint"
	ContainerImage         Code = "container.image"
)

// The codes of alias.
const (
	AliasUnknown     Code = "alias.unknown"
	AliasCycle       Code = "alias.cycle"
	AliasNotVouched  Code = "alias.not-vouched"
	AliasServiceFile Code = "alias.service-file"
	AliasIgnored     Code = "alias.ignored"
	AliasSRVUnknown  Code = "alias.srv-unknown"
	AliasSRVNone     Code = "alias.srv-none"
	AliasSRVTimeout  Code = "alias.srv-timeout"
	AliasUnused      Code = "alias.unused"
	AliasUnknownHost Code = "alias.unknown-host"
)

// The codes of cloud.
const (
	CloudUnknownAccount  Code = "cloud.unknown-account"
	CloudNotVouched      Code = "cloud.not-vouched"
	CloudNotSignedIn     Code = "cloud.not-signed-in"
	CloudSignInExpired   Code = "cloud.sign-in-expired"
	CloudUnknownInstance Code = "cloud.unknown-instance"
	CloudNoAddress       Code = "cloud.no-address"
	CloudPaused          Code = "cloud.paused"
	CloudStarting        Code = "cloud.starting"
	CloudFailed          Code = "cloud.failed"
	CloudFeatureOff      Code = "cloud.feature-off"
	CloudNotAllowed      Code = "cloud.not-allowed"
	CloudRulePending     Code = "cloud.rule-pending"
	CloudNoRight         Code = "cloud.no-right"
	CloudUnreachable     Code = "cloud.unreachable"
	CloudTooManyRequests Code = "cloud.too-many-requests"
	CloudBroken          Code = "cloud.broken"
)

// The codes of sentinel.
const (
	SentinelUnknown     Code = "sentinel.unknown"
	SentinelUnreachable Code = "sentinel.unreachable"
)

// The codes of name.
const (
	NameUnknownThere Code = "name.unknown-there"
	NameUnknown      Code = "name.unknown"
	NameTimeout      Code = "name.timeout"
	NameMixed        Code = "name.mixed"
)

// The codes of reach.
const (
	ReachRefused          Code = "reach.refused"
	ReachTimeout          Code = "reach.timeout"
	ReachTooManyFiles     Code = "reach.too-many-files"
	ReachUnreachable      Code = "reach.unreachable"
	ReachTurnedBack       Code = "reach.turned-back"
	ReachFailed           Code = "reach.failed"
	ReachSocketMissing    Code = "reach.socket-missing"
	ReachSocketPermission Code = "reach.socket-permission"
	ReachNotASocket       Code = "reach.not-a-socket"
	ReachPassedOver       Code = "reach.passed-over"
)

// The codes of speak.
const (
	SpeakOtherEngine    Code = "speak.other-engine"
	SpeakFlavour        Code = "speak.flavour"
	SpeakTLSOnly        Code = "speak.tls-only"
	SpeakTooOld         Code = "speak.too-old"
	SpeakServiceUnknown Code = "speak.service-unknown"
	SpeakNoHandler      Code = "speak.no-handler"
	SpeakServiceBlocked Code = "speak.service-blocked"
	SpeakInstanceDown   Code = "speak.instance-down"
	SpeakRedirected     Code = "speak.redirected"
	SpeakSilent         Code = "speak.silent"
	SpeakGarbage        Code = "speak.garbage"
	SpeakClosed         Code = "speak.closed"
	SpeakHostBlocked    Code = "speak.host-blocked"
	SpeakStarting       Code = "speak.starting"
	SpeakStopping       Code = "speak.stopping"
	SpeakRecovering     Code = "speak.recovering"
	SpeakProxyHeader    Code = "speak.proxy-header"
	SpeakStandbyClosed  Code = "speak.standby-closed"
	SpeakProtectedMode  Code = "speak.protected-mode"
	SpeakBusy           Code = "speak.busy"
	SpeakSentinel       Code = "speak.sentinel"
)

// The codes of tls.
const (
	TLSNotOffered        Code = "tls.not-offered"
	TLSRequiredByServer  Code = "tls.required-by-server"
	TLSWrongName         Code = "tls.wrong-name"
	TLSExpired           Code = "tls.expired"
	TLSNotYetValid       Code = "tls.not-yet-valid"
	TLSUntrusted         Code = "tls.untrusted"
	TLSNoAuthorities     Code = "tls.no-authorities"
	TLSExpiresSoon       Code = "tls.expires-soon"
	TLSHandshake         Code = "tls.handshake"
	TLSUnfinished        Code = "tls.unfinished"
	TLSTooOld            Code = "tls.too-old"
	TLSExtraBytes        Code = "tls.extra-bytes"
	TLSClientCertificate Code = "tls.client-certificate"
	TLSRevoked           Code = "tls.revoked"
	TLSNoRevocationList  Code = "tls.no-revocation-list"
	TLSPartialChain      Code = "tls.partial-chain"
)

// The codes of login.
const (
	LoginPassword            Code = "login.password"
	LoginEmptyPassword       Code = "login.empty-password"
	LoginPasswordWanted      Code = "login.password-wanted"
	LoginNoSuchRole          Code = "login.no-such-role"
	LoginNoLoginRight        Code = "login.no-login-right"
	LoginLocked              Code = "login.locked"
	LoginExpired             Code = "login.expired"
	LoginNoPasswordSet       Code = "login.no-password-set"
	LoginOtherHash           Code = "login.other-hash"
	LoginHostNotAllowed      Code = "login.host-not-allowed"
	LoginAnonymous           Code = "login.anonymous"
	LoginAnonymousFirst      Code = "login.anonymous-first"
	LoginPeer                Code = "login.peer"
	LoginRefused             Code = "login.refused"
	LoginCleartextRefused    Code = "login.cleartext-refused"
	LoginUnsupportedMethod   Code = "login.unsupported-method"
	LoginWeakMethod          Code = "login.weak-method"
	LoginNoPasswordAsked     Code = "login.no-password-asked"
	LoginRootWithoutPassword Code = "login.root-without-password"
	LoginExpiresSoon         Code = "login.expires-soon"
	LoginRightRefused        Code = "login.right-refused"
	LoginRightNeeded         Code = "login.right-needed"
	LoginUnchecked           Code = "login.unchecked"
	LoginCertificate         Code = "login.certificate"
	LoginTimeout             Code = "login.timeout"
	LoginBrokenOff           Code = "login.broken-off"
	LoginOtherUser           Code = "login.other-user"
	LoginOtherDatabase       Code = "login.other-database"
	LoginReplication         Code = "login.replication"
	LoginLocalPassword       Code = "login.local-password"
)

// The codes of database.
const (
	DatabaseMissing      Code = "database.missing"
	DatabaseNoAccess     Code = "database.no-access"
	DatabaseNotAccepting Code = "database.not-accepting"
	DatabaseNameTooLong  Code = "database.name-too-long"
	DatabaseNotYet       Code = "database.not-yet"
)

// The codes of session.
const (
	SessionServerFull    Code = "session.server-full"
	SessionReadOnly      Code = "session.read-only"
	SessionTarget        Code = "session.target"
	SessionAsksForFile   Code = "session.asks-for-file"
	SessionLost          Code = "session.lost"
	SessionTimeout       Code = "session.timeout"
	SessionBehindPooler  Code = "session.behind-pooler"
	SessionTimeLimit     Code = "session.time-limit"
	SessionInitFailed    Code = "session.init-failed"
	SessionNoRight       Code = "session.no-right"
	SessionLinkDown      Code = "session.link-down"
	SessionWritesStopped Code = "session.writes-stopped"
	SessionMemoryFull    Code = "session.memory-full"
	SessionNoPrimary     Code = "session.no-primary"
)

// The codes of expect.
const (
	ExpectVersion           Code = "expect.version"
	ExpectTLS               Code = "expect.tls"
	ExpectWritable          Code = "expect.writable"
	ExpectUser              Code = "expect.user"
	ExpectDatabase          Code = "expect.database"
	ExpectTableMissing      Code = "expect.table-missing"
	ExpectExtensionMissing  Code = "expect.extension-missing"
	ExpectCollectionMissing Code = "expect.collection-missing"
	ExpectIndexMissing      Code = "expect.index-missing"
	ExpectKeyMissing        Code = "expect.key-missing"
	ExpectPersistent        Code = "expect.persistent"
	ExpectReplicaSet        Code = "expect.replica-set"
	ExpectEncoding          Code = "expect.encoding"
	ExpectCollation         Code = "expect.collation"
	ExpectSqlMode           Code = "expect.sql-mode"
	ExpectTimeZone          Code = "expect.time-zone"
	ExpectServer            Code = "expect.server"
	ExpectLatency           Code = "expect.latency"
	ExpectUnknown           Code = "expect.unknown"
)

// The codes of audit.
const (
	AuditPermissions    Code = "audit.permissions"
	AuditOwner          Code = "audit.owner"
	AuditPlainPassword  Code = "audit.plain-password"
	AuditSharedPassword Code = "audit.shared-password"
	AuditNoPassword     Code = "audit.no-password"
	AuditAnyHost        Code = "audit.any-host"
	AuditTLSWeak        Code = "audit.tls-weak"
	AuditOldAlgorithms  Code = "audit.old-algorithms"
	AuditAdministrator  Code = "audit.administrator"
	AuditLoginMethod    Code = "audit.login-method"
	AuditReader         Code = "audit.reader"
	AuditUnboundEntry   Code = "audit.unbound-entry"
	AuditReusedSecret   Code = "audit.reused-secret"
	AuditVouchLapsed    Code = "audit.vouch-lapsed"
	AuditRotationOpen   Code = "audit.rotation-open"
	AuditTokenFile      Code = "audit.token-file"
	AuditRuleOpen       Code = "audit.rule-open"
	AuditPublicAddress  Code = "audit.public-address"
	AuditStoredPassword Code = "audit.stored-password"
)
