package secret

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"time"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/clean"
	"gentleharbor/core/finding"
	"gentleharbor/core/owner"
)

// maxSecret bounds the first line of a secret file, in bytes: far above any password or token, far below the size of
// a file that is named by mistake.
const maxSecret = 64 << 10

// The kinds of secret.
const (
	OfDatabase = ""      // a database account's password
	OfHop      = "hop"   // the password of an account on a jump host, or of a proxy
	OfKey      = "key"   // the passphrase of a private key file
	OfCloud    = "cloud" // the key that seals a cloud account's tokens
)

// Query describes the connection that needs a secret.
type Query struct {
	Kind        string
	Setting     string // the key that names the source, "" for "secret"
	Profile     string
	Source      Source
	Command     []string // the words of the command that prints it; nil for none
	Folder      string   // of the file that the profile stands in
	Engine      string
	Family      []string       // the words of the engines that speak its protocol, its own too
	Credentials CredentialFile // the file in which the engine's own clients keep passwords; nil for none
	Host        string         // as written; "" for a socket
	Socket      string         // the folder of the socket, "" for a host
	Port        string
	Database    string
	User        string
	Local       bool
	OneDatabase bool // a new line of a credential file is for the database alone

	// What a wallet's bindings are compared with.
	Address      string      // "host:port" as written, or a socket's path; a hop's word; a key's path
	Hops         []string    // in order from here
	TLS          string      // the rule
	TLSAuthority string      // the path of tls-ca, "" for the system's authorities
	TLSName      string      // tls-name, "" for the host
	ServerKey    string      // the path of server-key, "" for none
	Project      bool        // the profile has something from a project's file
	Aliases      []Link      // that the address is from: the one named, and those that it names in turn
	PortOverride bool        // the profile itself says the port of an alias's address that has none
	Told         string      // who gave the address, "" where a file has it written
	Container    string      // the container that it is in, by name or PROJECT/SERVICE, "" for none
	Endpoint     string      // of the container engine that has it
	Declared     Declaration // nil where it is in no container
	Instance     string      // of a cloud that it is, INSTANCE or INSTANCE/BRANCH, "" for none
	Service      string      // of the instance service that has it
	Mint         Mint        // nil where no login can be made for it

	Pinned map[string][]byte // bytes to take in place of a file's, by path

	// Recheck judges a project's profile once more, directly before the value is taken; nil where nothing is a
	// project's.
	Recheck func() *finding.Finding
}

// Declaration finds the password that a container's environment declares.
type Declaration func(q Query) (*Location, *finding.Finding)

// Login is a login that a service made for a short time.
type Login struct {
	User        string
	Password    Value
	Certificate *tls.Certificate // in place of a password; nil for none
	PEM         Value            // the certificate and its key, for a file that only its owner can read
	Until       time.Time
}

// Mint makes a login when it is needed. It is kept in memory, no longer than it is valid.
type Mint func(ctx context.Context) (*Login, error)

// Finder finds secrets. Its fields are what it needs from the machine.
type Finder struct {
	Lookup   func(name string) (string, bool)                        // environment variables
	Home     string                                                  // the user's home folder
	Locks    string                                                  // folder of the locks of files that are written to
	Terminal bool                                                    // there is someone to ask
	Ask      func(ctx context.Context, prompt string) (Value, error) // without echo

	// Wallet finds an entry of the wallet. For a profile that does not name the wallet (byDefault) it asks nobody:
	// where the wallet is locked, or has no entry that fits, the finding's code is secret.no-match.
	Wallet func(ctx context.Context, q Query, byDefault bool) (*Location, *finding.Finding)

	// Files are the credential files of all engines.
	Files []CredentialFile

	// JudgeFile judges a file that an environment variable names. Its finding is nil where the file is in no
	// repository, or was vouched for. JudgeFile may be nil.
	JudgeFile func(path string) *finding.Finding

	mu    sync.Mutex
	typed map[string]Value // by what it is for: one answer serves a whole run

	ringed map[string]Value // by entry of the keyring

	known map[string]*Location // by profile: given in place of what its source has
}

// SetPassword sets a profile's password in place of what its source has, for a test of one that this run made. place
// names where it is from. forget ends that.
func (f *Finder) SetPassword(profile string, v Value, place string) (forget func()) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.known == nil {
		f.known = make(map[string]*Location)
	}
	f.known[profile] = &Location{Place: place, Read: func(context.Context) (Value, error) { return v, nil }}
	return func() {
		f.mu.Lock()
		defer f.mu.Unlock()
		delete(f.known, profile)
	}
}

// knows is the password from SetPassword for a query, nil for none.
func (f *Finder) knows(q Query) *Location {
	f.mu.Lock()
	defer f.mu.Unlock()
	if q.Kind != OfDatabase {
		return nil
	}
	return f.known[q.Profile]
}

// Location is a secret's place, with a function that reads the value.
type Location struct {
	Place string // "file /home/w/passwords, line 1", "the terminal", "none"
	None  bool   // nothing will be sent: the source is none, or no source had anything
	Asks  bool   // a person will be asked
	Typed bool   // the person types the secret itself, and no passphrase
	Tried []string
	Read  func(ctx context.Context) (Value, error) // nil where nothing will be sent

	// Mint makes the login whose password Read returns; the login also has the user. nil where the profile says the
	// user.
	Mint Mint
}

// Take reads the value. It is called only after the server has asked for it.
func (l *Location) Take(ctx context.Context) (Value, error) {
	if l.Read == nil {
		return Value{}, nil
	}
	return l.Read(ctx)
}

// Locate finds where the secret is, and judges whether it is safe there. With a Location, the finding is nil or a
// warning. After a source that is refused no other source is tried.
func (f *Finder) Locate(ctx context.Context, q Query) (*Location, *finding.Finding) {
	located, found := f.locate(ctx, q)
	if located == nil || located.Read == nil || q.Recheck == nil {
		return located, found
	}
	again := *located
	again.Read = func(ctx context.Context) (Value, error) {
		if found := q.Recheck(); found != nil {
			return Value{}, &Failure{found}
		}
		return located.Read(ctx)
	}
	if located.Mint != nil {
		again.Mint = func(ctx context.Context) (*Login, error) {
			if found := q.Recheck(); found != nil {
				return nil, &Failure{found}
			}
			return located.Mint(ctx)
		}
	}
	return &again, found
}

func (f *Finder) locate(ctx context.Context, q Query) (*Location, *finding.Finding) {
	if known := f.knows(q); known != nil {
		return known, nil
	}
	switch q.Source.Kind {
	case "none":
		return &Location{Place: "none, by the profile", None: true}, nil
	case "ask":
		if !f.canAsk(q) {
			return nil, q.suggest(finding.New(finding.SecretNoTerminal,
				"there is no terminal to ask for the %s", q.describe()), "env:NAME", q.fileSource())
		}
		return f.asking(q), nil
	case "env":
		return f.environment(q)
	case "file":
		return f.file(q)
	case "command":
		return f.command(q)
	case "wallet":
		return f.Wallet(ctx, q, false)
	case "keyring":
		return f.keyring(q)
	case "container":
		if q.Declared == nil {
			return nil, finding.New(finding.SecretMissing,
				"the password comes from a container, but the profile's address is not a container").
				Suggest("gharbor set %s secret=ask", q.Profile)
		}
		return q.Declared(q)
	case "cloud":
		return q.locateCloudLogin()
	}
	if file := f.credentialFile(q); file != nil {
		return file.Locate(f, q)
	}
	return f.locateInOrder(ctx, q)
}

// locateInOrder tries each source in order, for a profile that names none.
func (f *Finder) locateInOrder(ctx context.Context, q Query) (*Location, *finding.Finding) {
	var tried []string
	if q.Credentials != nil {
		located, found := q.Credentials.Locate(f, q)
		if located != nil || found.Code != finding.SecretNoMatch && found.Code != finding.SecretMissing {
			return located, found
		}
		tried = append(tried, found.Cause)
		tried = append(tried, found.Seen...)
	}
	if f.Wallet != nil {
		located, found := f.Wallet(ctx, q, true)
		if located != nil || found.Code != finding.SecretNoMatch {
			return located, found
		}
		tried = append(tried, found.Cause)
		tried = append(tried, found.Seen...)
	}
	if f.canAsk(q) {
		located := f.asking(q)
		located.Tried = tried
		return located, nil
	}
	tried = append(tried, "there is no terminal to ask on")
	return &Location{Place: "none found", None: true, Tried: tried}, nil
}

// canAsk reports whether a person can be asked, or has answered already.
func (f *Finder) canAsk(q Query) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	_, given := f.typed[q.answerKey()]
	return f.Terminal || given
}

// asking asks once for a profile, however many hosts or tests need the answer.
func (f *Finder) asking(q Query) *Location {
	read := func(ctx context.Context) (Value, error) {
		f.mu.Lock()
		defer f.mu.Unlock()
		if value, ok := f.typed[q.answerKey()]; ok {
			return value, nil
		}
		value, err := f.Ask(ctx, q.prompt())
		if err == nil {
			if f.typed == nil {
				f.typed = make(map[string]Value)
			}
			f.typed[q.answerKey()] = value
		}
		return value, err
	}
	return &Location{Place: "asked for on the terminal", Asks: true, Typed: true, Read: read}
}

// Forget drops what a person typed, after it was wrong.
func (f *Finder) Forget(q Query) {
	f.mu.Lock()
	defer f.mu.Unlock()
	delete(f.typed, q.answerKey())
}

func (f *Finder) environment(q Query) (*Location, *finding.Finding) {
	value, ok := f.Lookup(q.Source.Arg)
	if !ok {
		return nil, finding.New(finding.SecretMissing, "the environment variable %s is not set", q.Source.Arg).
			Suggest("read -rs %s && export %s", q.Source.Arg, q.Source.Arg).
			Suggest("%s %s %s=ask", q.setCommand(), q.Profile, q.SettingKey())
	}
	place := "environment variable " + q.Source.Arg
	if value == "" {
		place += ", set and empty: an empty password"
	}
	return &Location{Place: place, Read: func(context.Context) (Value, error) {
		value, _ := f.Lookup(q.Source.Arg)
		return NewValue(value), nil
	}}, nil
}

func (f *Finder) file(q Query) (*Location, *finding.Finding) {
	path := q.Source.Arg
	if found := q.Judge(path, "the secret file"); found != nil {
		return nil, found
	}
	first, err := q.firstLine(path)
	if err != nil {
		return nil, Unreadable(path, "the secret file", err)
	}
	place := "file " + path + ", line 1" + Unchecked
	if first.Empty() {
		place += ", empty: an empty password"
	}
	return &Location{Place: place, Read: func(context.Context) (Value, error) { return q.firstLine(path) }}, nil
}

// FirstLine is the first line of a file, of at most 64 KiB. JudgeFile checks whether others can read the file.
func FirstLine(path string) (Value, error) { return Query{}.firstLine(path) }

// Open opens a file, or the bytes that are pinned for it.
func (q Query) Open(path string) (io.ReadCloser, error) {
	if data, ok := q.Pinned[path]; ok {
		return io.NopCloser(bytes.NewReader(data)), nil
	}
	return atomicfile.Open(path)
}

func (q Query) firstLine(path string) (Value, error) {
	file, err := q.Open(path)
	if err != nil {
		return Value{}, err
	}
	defer file.Close()
	line, err := bufio.NewReaderSize(io.LimitReader(file, maxSecret+1), 512).ReadString('\n')
	if err != nil && err != io.EOF {
		return Value{}, err
	}
	if len(line) > maxSecret {
		return Value{}, fmt.Errorf("its first line is longer than %d KiB", maxSecret>>10)
	}
	return NewValue(strings.TrimRight(line, "\r\n")), nil
}

// Unreadable is the finding for a file of secrets that cannot be read.
func Unreadable(path, what string, err error) *finding.Finding {
	why := err.Error()
	var pathError *fs.PathError
	if errors.As(err, &pathError) {
		why = pathError.Err.Error()
	}
	return finding.New(finding.SecretUnreadable, "%s %s cannot be read", what, path).
		Saw("%s", clean.Line(why, 0)).
		Suggest("ls -l %s", clean.Shell(path))
}

// Unchecked are the words after a file's name on a system whose permissions we do not read.
var Unchecked = map[bool]string{true: " (who else can read it was not checked)"}[runtime.GOOS == "windows"]

// Judge judges a profile's secret file as JudgeFile does, and adds lines to try.
func (q Query) Judge(path, what string) *finding.Finding {
	found := JudgeFile(path, what)
	if found != nil && found.Code == finding.SecretMissing {
		q.KeepOrAsk(found)
	}
	return found
}

// JudgeFile refuses a file of secrets that others can use, as a server's own clients do, and does so for each source.
func JudgeFile(path, what string) *finding.Finding {
	link, err := os.Lstat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return finding.New(finding.SecretMissing, "there is no file %s", path)
	}
	if err != nil {
		return Unreadable(path, what, err)
	}
	info, err := os.Stat(path)
	if err != nil {
		return Unreadable(path, what, err)
	}
	if !info.Mode().IsRegular() {
		return finding.New(finding.SecretUnreadable, "%s %s is not a regular file", what, path).
			Suggest("ls -l %s", clean.Shell(path))
	}
	if uid, ok := owner.UserID(info); ok && uid != os.Getuid() && uid != 0 {
		return finding.New(finding.SecretPermissions, "%s %s belongs to another user",
			what,
			path).
			Saw("its owner is user %d; you are user %d", uid, os.Getuid()).
			Suggest("sudo chown %d %s", os.Getuid(), clean.Shell(path))
	}
	if link.Mode()&fs.ModeSymlink != 0 {
		if found := judgeFolder(path, what); found != nil {
			return found
		}
	}
	if runtime.GOOS != "windows" && info.Mode().Perm()&0o077 != 0 {
		return finding.New(finding.SecretPermissions, "other users can access %s %s, so it is not used", what, path).
			Saw("its permissions are %04o; group and others must have none", info.Mode().Perm()).
			Suggest("chmod 600 %s", clean.Shell(path))
	}
	return nil
}

// judgeFolder refuses a symbolic link into a folder of another user, who could put another file there.
func judgeFolder(path, what string) *finding.Finding {
	target, err := filepath.EvalSymlinks(path)
	if err != nil {
		return Unreadable(path, what, err)
	}
	folder := filepath.Dir(target)
	info, err := os.Stat(folder)
	if err != nil {
		return Unreadable(path, what, err)
	}
	if uid, ok := owner.UserID(info); ok && uid != os.Getuid() && uid != 0 {
		return finding.New(finding.SecretPermissions,
			"%s %s is a link into another user's folder", what, path).
			Saw("it leads to %s; the folder's owner is user %d, you are user %d", target, uid, os.Getuid()).
			Suggest("ls -ld %s", clean.Shell(folder))
	}
	return nil
}
