package oracle

import (
	"bytes"
	"strings"

	"gentleharbor/core/engine/greeting"
	"gentleharbor/core/engine/oracle/tns"
)

// opening is a connect packet that asks for nothing, which a listener refuses by its protocol.
func opening() []byte { return tns.ConnectPacket(tns.Target{}) }

// recognise names a listener by the packet with which it answers.
func recognise(p []byte) (greeting.Service, bool) {
	packet, err := tns.Read(bytes.NewReader(p))
	if err != nil {
		return greeting.Service{}, false
	}
	s := greeting.Service{Engine: Word, What: "a listener of Oracle's databases"}
	switch packet.Type {
	case tns.Refuse:
		refusal, err := tns.ParseRefuse(packet)
		if err != nil || !strings.Contains(refusal.Text, "(DESCRIPTION") {
			return greeting.Service{}, false
		}
		if s.Version = refusal.Listen; s.Version != "" {
			s.What += " (version " + s.Version + ")"
		}
		return s, true
	case tns.Accept:
		_, err := tns.ParseAccept(packet)
		return s, err == nil
	case tns.Redirect:
		_, _, err := tns.ParseRedirect(packet)
		return s, err == nil
	case tns.Resend:
		return s, len(packet.Raw) == 8
	}
	return greeting.Service{}, false
}
