package redis

import (
	"strings"
	"sync"

	"gentleharbor/core/engine"
)

// statements is what a command is here: a line of arguments, quoted as the server takes typed ones.
var statements = &engine.Statements{
	Lexis:     engine.Lexis{Line: splitLine},
	Quote:     quoteArgument,
	Parameter: parameter,
	Bare:      isPlain,
	Catalogue: catalogue,
	Rules: &engine.Rules{
		Risk:     riskOf,
		Secret:   hasPassword,
		Reads:    reads,
		Database: selectedDatabase,
		Rollback: "DISCARD",
		End:      "the end of the line",
		NotAtomic: "a transaction of this engine is not taken back where one of its commands fails; " +
			"MULTI and EXEC in the file send commands together",
	},
}

// readers are commands that change nothing (Redis documentation, "Commands": those with the flag readonly, and those
// that tell of the server or the connection). A test compares them with what a server says of its commands.
const readers engine.Words = "GET MGET STRLEN GETRANGE SUBSTR GETBIT BITCOUNT BITPOS BITFIELD_RO EXISTS TYPE TTL " +
	"PTTL EXPIRETIME PEXPIRETIME KEYS SCAN RANDOMKEY DBSIZE DUMP LCS " +
	"HGET HMGET HGETALL HKEYS HVALS HLEN HEXISTS HSTRLEN HSCAN HRANDFIELD " +
	"LLEN LRANGE LINDEX LPOS " +
	"SCARD SISMEMBER SMISMEMBER SMEMBERS SRANDMEMBER SSCAN SINTER SINTERCARD SUNION SDIFF " +
	"ZCARD ZCOUNT ZLEXCOUNT ZRANGE ZRANGEBYLEX ZRANGEBYSCORE ZREVRANGE ZREVRANGEBYLEX ZREVRANGEBYSCORE ZRANK ZREVRANK " +
	"ZSCORE ZMSCORE ZSCAN ZRANDMEMBER ZINTER ZINTERCARD ZUNION ZDIFF " +
	"XLEN XRANGE XREVRANGE XREAD XPENDING " +
	"GEODIST GEOHASH GEOPOS GEOSEARCH GEORADIUS_RO GEORADIUSBYMEMBER_RO SORT_RO EVAL_RO EVALSHA_RO FCALL_RO " +
	"PFCOUNT TOUCH PING ECHO TIME INFO LASTSAVE ROLE SELECT COMMAND MULTI EXEC DISCARD WATCH UNWATCH LOLWUT"

// readingPairs are the same for commands with a subcommand. A command that was given without one is a pair with "".
var readingPairs = sync.OnceValue(func() map[string]engine.Words {
	return map[string]engine.Words{
		"CONFIG":   "GET",
		"CLIENT":   "LIST INFO ID GETNAME TRACKINGINFO",
		"ACL":      "LIST USERS GETUSER WHOAMI CAT DRYRUN GENPASS",
		"OBJECT":   "ENCODING FREQ IDLETIME REFCOUNT",
		"MEMORY":   "USAGE STATS DOCTOR",
		"SLOWLOG":  "GET LEN",
		"LATENCY":  "LATEST HISTORY DOCTOR GRAPH HISTOGRAM",
		"XINFO":    "STREAM GROUPS CONSUMERS",
		"SCRIPT":   "EXISTS",
		"FUNCTION": "LIST STATS DUMP",
		"MODULE":   "LIST",
		"CLUSTER":  "INFO NODES SLOTS SHARDS KEYSLOT COUNTKEYSINSLOT GETKEYSINSLOT MYID LINKS",
		"PUBSUB":   "CHANNELS NUMPAT NUMSUB SHARDCHANNELS SHARDNUMSUB",
	}
})

// writers are commands that change what they name, and no more than that.
const writers engine.Words = "SET SETNX SETEX PSETEX MSET MSETNX APPEND SETRANGE INCR INCRBY INCRBYFLOAT DECR DECRBY " +
	"GETSET GETEX SETBIT BITOP BITFIELD EXPIRE PEXPIRE EXPIREAT PEXPIREAT PERSIST RENAME RENAMENX COPY MOVE " +
	"HSET HSETNX HMSET HINCRBY HINCRBYFLOAT HDEL " +
	"LPUSH RPUSH LPUSHX RPUSHX LPOP RPOP LSET LINSERT LREM LTRIM LMOVE RPOPLPUSH LMPOP BLPOP BRPOP BLMOVE BLMPOP " +
	"BRPOPLPUSH SADD SREM SPOP SMOVE SINTERSTORE SUNIONSTORE SDIFFSTORE " +
	"ZADD ZINCRBY ZREM ZPOPMIN ZPOPMAX ZMPOP BZPOPMIN BZPOPMAX BZMPOP ZREMRANGEBYLEX ZREMRANGEBYRANK ZREMRANGEBYSCORE " +
	"ZRANGESTORE ZINTERSTORE ZUNIONSTORE ZDIFFSTORE " +
	"XADD XDEL XTRIM XGROUP XREADGROUP XACK XCLAIM XAUTOCLAIM XSETID PFADD PFMERGE " +
	"GEOADD GEOSEARCHSTORE GEORADIUS GEORADIUSBYMEMBER SORT PUBLISH SPUBLISH WAIT WAITAOF RESTORE"

// reads reports whether a command changes nothing.
func reads(words []string) bool {
	if readers.Has(words[0]) {
		return true
	}
	return len(words) > 1 && readingPairs()[words[0]].Has(words[1])
}

// riskOf says what a command may destroy: whole keys, all keys, the server or its accounts and settings, and anything
// where it can't be judged.
func riskOf(words []string) string {
	first := words[0]
	switch {
	case reads(words), writers.Has(first):
		return ""
	case engine.Words("DEL UNLINK GETDEL").Has(first):
		return first + " removes whole keys"
	case engine.Words("FLUSHALL FLUSHDB").Has(first):
		return first + " removes every key"
	case engine.Words("EVAL EVALSHA FCALL").Has(first):
		return "what the script of " + first + " does is not known"
	case len(words) > 1 && engine.Words("CONFIG ACL CLIENT SCRIPT FUNCTION CLUSTER MODULE DEBUG").Has(first):
		return first + " " + words[1] + " changes the server"
	}
	return "what " + first + " does is not known"
}

// hasPassword reports whether a command has a password in it, or the hash of one.
func hasPassword(words []string) bool {
	pair := ""
	if len(words) > 1 {
		pair = words[0] + " " + words[1]
	}
	switch {
	case words[0] == "AUTH", pair == "ACL SETUSER":
		return true
	case words[0] == "HELLO", words[0] == "MIGRATE":
		for _, word := range words {
			if word == "AUTH" || word == "AUTH2" {
				return true
			}
		}
	case pair == "CONFIG SET":
		for i := 2; i < len(words); i += 2 {
			if isSecretSetting(words[i]) {
				return true
			}
		}
	}
	return false
}

// isSecretSetting reports whether a setting of the server has a password.
func isSecretSetting(name string) bool {
	name = strings.ToLower(name)
	return strings.Contains(name, "pass") || name == "masterauth"
}

// selectedDatabase is the database that a command selects for the rest of the session.
func selectedDatabase(words []string) string {
	if words[0] == "SELECT" && len(words) > 1 {
		return words[1]
	}
	return ""
}
