// Command traffic is the two ends of a benchmark of tunnels: a server that sends a
// gibibyte, one that greets and closes, and clients that read from either.
package main

import (
	"fmt"
	"io"
	"net"
	"os"
	"time"
)

const (
	block = 1 << 20
	bulk  = 1 << 30
	short = 500
)

func main() {
	if err := run(os.Args[1], os.Args[2]); err != nil {
		fmt.Fprintln(os.Stderr, "traffic:", err)
		os.Exit(1)
	}
}

func run(what, address string) error {
	switch what {
	case "bulk":
		return serve(address, func(conn net.Conn) {
			data := make([]byte, block)
			for sent := 0; sent < bulk; sent += block {
				if _, err := conn.Write(data); err != nil {
					return
				}
			}
		})
	case "greet":
		return serve(address, func(conn net.Conn) {
			conn.Write([]byte("dunlin\n"))
			conn.Write(make([]byte, 600))
		})
	case "read": // a gibibyte; prints seconds
		start := time.Now()
		n, err := read(address)
		if err != nil || n != bulk {
			return fmt.Errorf("%d bytes: %w", n, err)
		}
		fmt.Println(time.Since(start).Seconds())
	case "many": // short connections one after the other, for five seconds at the most; prints how many a second
		start := time.Now()
		done := 0
		for ; done < short && time.Since(start) < 5*time.Second; done++ {
			if n, err := read(address); err != nil || n != 607 {
				return fmt.Errorf("connection %d: %d bytes: %w", done, n, err)
			}
		}
		fmt.Println(float64(done) / time.Since(start).Seconds())
	case "first": // until a first byte comes, by trying again and again
		for range 20_000 {
			conn, err := net.Dial("tcp", address)
			if err == nil {
				conn.SetDeadline(time.Now().Add(5 * time.Second))
				n, _ := conn.Read(make([]byte, 1))
				conn.Close()
				if n == 1 {
					return nil
				}
			}
			time.Sleep(200 * time.Microsecond)
		}
		return fmt.Errorf("no byte came from %s", address)
	}
	return nil
}

func serve(address string, send func(net.Conn)) error {
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return err
	}
	for {
		conn, err := listener.Accept()
		if err != nil {
			return err
		}
		go func() {
			defer conn.Close()
			send(conn)
		}()
	}
}

func read(address string) (int64, error) {
	conn, err := net.Dial("tcp", address)
	if err != nil {
		return 0, err
	}
	defer conn.Close()
	return io.CopyBuffer(struct{ io.Writer }{io.Discard}, struct{ io.Reader }{conn}, make([]byte, block))
}
