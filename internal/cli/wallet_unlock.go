package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"gentleharbor/core/privatesocket"
	"gentleharbor/core/wallet"
	"gentleharbor/internal/render"
)

// maxLifetime bounds an unlock: a day at work.
const maxLifetime = 24 * time.Hour

func walletUnlock() *command {
	var o walletFlags
	var lifetime time.Duration
	return &command{
		name: "wallet unlock", summary: "keep the wallet open for a while, for this user",
		long: `A small process of your own keeps what opens the wallet in its memory, behind a socket
that only you can reach. It can't change the wallet, and ends by itself.`,
		examples: []string{"gharbor wallet unlock", "gharbor wallet unlock -lifetime 8h"},
		flags: func(fs *flagSet) {
			o.flags(fs)
			fs.DurationVar(&lifetime, "lifetime", 15*time.Minute, "for how long, 24h at the most")
		},
		run: func(ctx context.Context, c *call) error {
			if lifetime < time.Second || lifetime > maxLifetime {
				return usage("-lifetime: expected a time from 1s to 24h")
			}
			s, _, err := c.store(o.path)
			if err != nil {
				return err
			}
			f, err := wallet.Load(s.Path)
			if err != nil {
				return err
			}
			pass, err := c.passphrase(ctx, o, s)
			if err != nil {
				return err
			}
			w, err := s.Open(ctx, pass)
			if err != nil {
				return err
			}
			socket := wallet.KeeperSocket(c.Lookup, f.ID())
			err = wallet.Unlocked{Socket: socket}.Lock(ctx)
			switch silent := new(privatesocket.Silent); {
			case err == nil:
				time.Sleep(50 * time.Millisecond) // until it has let go of the socket
			case errors.As(err, &silent):
				return keeperSilent(s.Path, silent)
			}
			until := time.Now().Add(lifetime)
			if err := startKeeper(ctx, socket, w.Keys(until)); err != nil {
				return &exitError{code: exitSecret, err: fmt.Errorf("the wallet can't be kept open: %w", err)}
			}
			c.Say("unlocked: %s until %s", s.Path, until.Format("15:04"))
			c.Say("  try: gharbor wallet lock   # ends it before")
			return nil
		},
	}
}

// keeperSilent is for a process that holds the wallet's keys and does not answer.
func keeperSilent(path string, silent *privatesocket.Silent) error {
	return &exitError{
		code: exitSecret,
		err:  fmt.Errorf("the process that keeps the wallet %s open can't be asked: %w", path, silent),
		try:  []string{silent.EndLine() + "   # ends it"},
	}
}

// startKeeper starts this program as the process that keeps the wallet open. The
// setFlags go through a pipe, never through an argument or the environment.
func startKeeper(ctx context.Context, socket string, keys wallet.Keys) error {
	b, err := startBackground("/", nil, "wallet", "keep", socket)
	if err != nil {
		return err
	}
	defer context.AfterFunc(ctx, func() { b.cmd.Process.Kill() })()
	if err := json.NewEncoder(b.in).Encode(keys); err != nil {
		return err
	}
	b.in.Close()
	said, err := io.ReadAll(io.LimitReader(b.out, 1000))
	if err != nil {
		return err
	}
	if text := strings.TrimSpace(string(said)); text != "ready" {
		return errors.New(text)
	}
	return b.cmd.Process.Release()
}

// walletKeep is the process behind unlock.
func walletKeep() *command {
	return &command{
		name: "wallet keep", args: "SOCKET", hidden: true, summary: "what unlock starts", minArgs: 1, maxArgs: 1,
		run: func(ctx context.Context, c *call) error {
			var keys wallet.Keys
			if err := json.NewDecoder(io.LimitReader(c.Stdin, 16<<10)).Decode(&keys); err != nil {
				return usage("this is for gharbor wallet unlock to start")
			}
			listener, err := wallet.Listen(c.args[0])
			out := render.FileOf(c.Stdout)
			if err != nil {
				fmt.Fprintln(c.Stdout, err)
				return &exitError{code: exitSecret}
			}
			fmt.Fprintln(c.Stdout, "ready")
			if out != nil {
				out.Close() // whoever started it waits for the end of what it says
			}
			wallet.Keep(ctx, listener, keys)
			return nil
		},
	}
}

func walletLock() *command {
	var o walletFlags
	return &command{
		name: "wallet lock", summary: "end an unlock",
		examples: []string{"gharbor wallet lock"},
		flags:    o.pathFlag,
		run: func(ctx context.Context, c *call) error {
			s, _, err := c.store(o.path)
			if err != nil {
				return err
			}
			f, err := wallet.Load(s.Path)
			if err != nil {
				return err
			}
			err = wallet.Unlocked{Socket: wallet.KeeperSocket(c.Lookup, f.ID())}.Lock(ctx)
			switch silent := new(privatesocket.Silent); {
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
		},
	}
}
