package mongodb

import (
	"encoding/binary"

	"gentleharbor/core/engine/greeting"
)

// helloID is the id of the request that opening sends.
const helloID = 0x6768

// opening is OP_MSG {hello: 1, $db: "admin"} (MongoDB documentation, "Wire Protocol").
func opening() []byte {
	doc := []byte("\x00\x00\x00\x00\x10hello\x00\x01\x00\x00\x00\x02$db\x00\x06\x00\x00\x00admin\x00\x00")
	binary.LittleEndian.PutUint32(doc, uint32(len(doc)))
	message := make([]byte, 16, 64)
	binary.LittleEndian.PutUint32(message[4:], helloID)
	binary.LittleEndian.PutUint32(message[12:], 2013)
	message = append(message, 0, 0, 0, 0, 0)
	message = append(message, doc...)
	binary.LittleEndian.PutUint32(message, uint32(len(message)))
	return message
}

// recognise names a server by its answer to the opening.
func recognise(p []byte) (greeting.Service, bool) {
	return greeting.Service{Engine: Word, What: "a MongoDB server"}, isReply(p)
}

// isReply accepts a reply to opening: opcode OP_MSG or OP_REPLY and our id.
func isReply(p []byte) bool {
	if len(p) < 16 {
		return false
	}
	opcode := binary.LittleEndian.Uint32(p[12:])
	return (opcode == 2013 || opcode == 1) && binary.LittleEndian.Uint32(p[8:]) == helloID
}
