// Command asker is the peer of container scan: it asks a container engine for its list
// and then for each container, one after the other, and reads no more of the answers
// than it must.
package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
)

func main() {
	client := &http.Client{Transport: &http.Transport{DialContext: func(ctx context.Context,
		_, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "unix", os.Args[1])
	}}}
	var list []struct {
		ID string `json:"Id"`
	}
	get(client, "/containers/json?all=1", &list)
	for _, one := range list {
		var any struct{ Name string }
		get(client, "/containers/"+one.ID+"/json", &any)
	}
	fmt.Println(len(list))
}

func get(client *http.Client, path string, into any) {
	answer, err := client.Get("http://engine" + path)
	if err == nil {
		var data []byte
		data, err = io.ReadAll(answer.Body)
		answer.Body.Close()
		if err == nil {
			err = json.Unmarshal(data, into)
		}
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}
