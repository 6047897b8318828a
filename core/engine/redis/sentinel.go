package redis

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strconv"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/engine/probe"
	"gentleharbor/core/engine/redis/resp"
)

// primaryOf asks a sentinel for the address of the primary of a name (Redis documentation, "Sentinel API").
func primaryOf(ctx context.Context, conn net.Conn, name string) (host string, port int, err error) {
	defer probe.Guard(ctx, conn)()
	if _, err := conn.Write(resp.Append(nil, "SENTINEL", "GET-MASTER-ADDR-BY-NAME", name)); err != nil {
		return "", 0, err
	}
	reply, err := resp.NewReader(conn, maxFacts).Read()
	switch {
	case err != nil:
		return "", 0, err
	case reply.Kind == '_':
		return "", 0, engine.ErrNotWatched
	case means(reply) == meansUnknownCommand:
		return "", 0, errors.New("it is a server with data, and no sentinel")
	case reply.IsError():
		return "", 0, fmt.Errorf("it refuses: %s", clean.Line(reply.String(), 200))
	case len(reply.Items) != 2:
		return "", 0, resp.ErrMalformed
	}
	port, err = strconv.Atoi(reply.Items[1].String())
	return reply.Items[0].String(), port, err
}
