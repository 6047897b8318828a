#!/usr/bin/env python3
"""A program in the place of an instance service: it tells gharbor of the servers in a list.

    gharbor cloud add shed command=/usr/local/bin/instances.py,/etc/servers.json
    gharbor cloud check shed

Each request is a line of JSON on standard input, each answer a line on standard output; docs/cloud-service.md has
the interface. The list is a JSON file: [{"name": "tides", "engine": "postgresql", "host": "tide-db.example",
"port": 5432, "database": "tides", "authority_file": "/etc/ca.pem"}]. A list alone makes no logins and opens no
network, so a profile of such an instance names its user and where the password is.
"""
import json
import sys

FORMAT = 1


def problem(status, kind, detail=""):
    return {"status": status, "body": {"type": "urn:gentle-harbor:cloud:" + kind, "status": status, "detail": detail}}


def good(body):
    return {"status": 200, "body": body}


def instance(entry):
    shown = {
        "name": entry["name"],
        "engine": entry["engine"],
        "region": entry.get("region", ""),
        "state": "running",
        "addresses": [{"kind": entry.get("kind", "public"), "host": entry["host"], "port": entry["port"]}],
        "database": entry.get("database", ""),
    }
    if "authority_file" in entry:
        with open(entry["authority_file"], encoding="ascii") as file:
            shown["authority"] = file.read()
    return shown


def answer(request, servers):
    method, path = request["method"], request["path"]
    if method != "GET":
        return problem(403, "no-right", "this list can't be changed")
    if path == "/account":
        return good({"format": FORMAT, "account": "the list of servers", "rights": ["look"]})
    if path == "/instances":
        wanted = [value for name, value in request.get("query", []) if name == "name"]
        chosen = [s for s in servers if not wanted or s["name"] in wanted]
        return good({"format": FORMAT, "instances": [instance(s) for s in chosen]})
    for server in servers:
        if path == "/instances/" + server["name"]:
            return good(instance(server))
    return problem(404, "unknown")


def main():
    with open(sys.argv[1], encoding="utf-8") as file:
        servers = json.load(file)
    for line in sys.stdin:
        print(json.dumps(answer(json.loads(line), servers)), flush=True)


if __name__ == "__main__":
    main()
