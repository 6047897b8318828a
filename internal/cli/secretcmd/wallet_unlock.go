package secretcmd

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"gentleharbor/core/owner"
	"gentleharbor/core/privatesocket"
	"gentleharbor/core/wallet"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/render"
)

// maxLifetime bounds an unlock: a day at work.
const maxLifetime = 24 * time.Hour

func walletUnlock() *base.Command {
	var o WalletFlags
	var lifetime time.Duration
	return &base.Command{
		Name: "wallet unlock", Summary: "unlock the wallet for a while, for this user",
		Long: `A small process of yours keeps the keys in memory, behind a socket that only you can use.
It can't change the wallet, and ends by itself.`,
		Examples: []string{"gharbor wallet unlock", "gharbor wallet unlock -lifetime 8h"},
		Flags: func(fs *base.FlagSet) {
			o.Flags(fs)
			fs.DurationVar(&lifetime, "lifetime", 15*time.Minute, "for how long, at most 24h")
		},
		Run: run(func(ctx context.Context, c *Call) error {
			if lifetime < time.Second || lifetime > maxLifetime {
				return base.Usage("-lifetime: expected a time from 1s to 24h")
			}
			if !owner.KnowsPeers {
				return base.Advise(base.Usage("wallet unlock does not work on this system: it does not say whose program "+
					"asks for the keys"), "use -passphrase-file, or a pin file (gharbor wallet reader add)")
			}
			s, _, err := c.Store(o.Path)
			if err != nil {
				return err
			}
			f, err := wallet.Load(s.Path)
			if err != nil {
				return err
			}
			var w *wallet.Wallet
			err = c.withPassphrase(ctx, o, s, func(pass *wallet.Passphrase) (err error) {
				w, err = s.Open(ctx, pass)
				return err
			})
			if err != nil {
				return err
			}
			socket := wallet.KeeperSocket(c.Lookup, f.ID())
			err = wallet.UnlockedSource{Socket: socket}.Lock(ctx)
			switch silent := new(privatesocket.SilentError); {
			case err == nil:
				time.Sleep(50 * time.Millisecond) // until it has let go of the socket
			case errors.As(err, &silent):
				return keeperSilent(s.Path, silent)
			}
			until := time.Now().Add(lifetime)
			if err := startKeeper(ctx, socket, w.Keys(until)); err != nil {
				return base.Failure(base.ExitSecret, fmt.Errorf("the wallet can't be kept open: %w", err))
			}
			c.Say("unlocked: %s until %s", s.Path, until.Format("15:04"))
			c.Say("  try: gharbor wallet lock   # locks it earlier")
			return nil
		}),
	}
}

// keeperSilent is the error for a process that has the wallet's keys and does not answer.
func keeperSilent(path string, silent *privatesocket.SilentError) error {
	return base.Failure(base.ExitSecret,
		fmt.Errorf("the process that keeps the wallet %s open does not answer: %w", path, silent),
		silent.EndLine()+"   # ends it")
}

// startKeeper starts this program as the process that keeps the wallet open. The keys go through a pipe, never
// through an argument or the environment.
func startKeeper(ctx context.Context, socket string, keys wallet.Keys) error {
	b, err := base.StartBackground("/", nil, "wallet", "hold", socket)
	if err != nil {
		return err
	}
	defer context.AfterFunc(ctx, func() { b.Cmd.Process.Kill() })()
	if err := json.NewEncoder(b.In).Encode(keys); err != nil {
		return err
	}
	b.In.Close()
	said, err := io.ReadAll(io.LimitReader(b.Out, 1000))
	if err != nil {
		return err
	}
	if text := strings.TrimSpace(string(said)); text != "ready" {
		return errors.New(text)
	}
	return b.Cmd.Process.Release()
}

// walletHold is the process behind unlock.
func walletHold() *base.Command {
	return &base.Command{
		Name: "wallet hold", Args: "SOCKET", Hidden: true, Summary: "what unlock starts", MinArgs: 1, MaxArgs: 1,
		Run: run(func(ctx context.Context, c *Call) error {
			var keys wallet.Keys
			if err := json.NewDecoder(io.LimitReader(c.Stdin, 16<<10)).Decode(&keys); err != nil {
				return base.Usage("this is for gharbor wallet unlock to start")
			}
			listener, err := wallet.Listen(c.Args[0])
			out := render.FileOf(c.Stdout)
			if err != nil {
				fmt.Fprintln(c.Stdout, err)
				return base.Failure(base.ExitSecret, nil)
			}
			fmt.Fprintln(c.Stdout, "ready")
			if out != nil {
				out.Close() // whoever started it waits for the end of what it says
			}
			wallet.Keep(ctx, listener, keys)
			return nil
		}),
	}
}

func walletLock() *base.Command {
	var o WalletFlags
	return &base.Command{
		Name: "wallet lock", Summary: "lock the wallet again",
		Examples: []string{"gharbor wallet lock"},
		Flags:    o.pathFlag,
		Run: run(func(ctx context.Context, c *Call) error {
			s, _, err := c.Store(o.Path)
			if err != nil {
				return err
			}
			f, err := wallet.Load(s.Path)
			if err != nil {
				return err
			}
			err = wallet.UnlockedSource{Socket: wallet.KeeperSocket(c.Lookup, f.ID())}.Lock(ctx)
			switch silent := new(privatesocket.SilentError); {
			case err == nil:
				c.Say("locked: %s", s.Path)
			case errors.Is(err, privatesocket.ErrNone):
				c.Say("the wallet %s was not unlocked", s.Path)
			case errors.As(err, &silent):
				return keeperSilent(s.Path, silent)
			default:
				return err
			}
			return nil
		}),
	}
}
