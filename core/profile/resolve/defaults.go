package resolve

import (
	"strconv"

	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/schema"
)

// byDefault is the value of a key that nothing sets, and why.
func (r *Profile) byDefault(field *schema.Field) (Effective, bool) {
	text, reason := "", ""
	switch field.Name {
	case "port":
		if spec := r.Engine(); spec != nil && spec.Port != 0 && !r.address.TellsPort {
			text, reason = strconv.Itoa(spec.Port), spec.Word+"'s usual port"+r.address.PortPlace
		}
	case "database":
		if spec := r.Engine(); spec != nil && spec.Keys.UserDatabase {
			text, reason = r.Text(key.User), "the user's name, as the server would"
		}
	case "secret":
		if _, ok := r.lookUp(r.Schema().Field(key.Command)); ok {
			text, reason = "command", "the key command names one"
			break
		}
		text, reason = "default", "an open wallet, then ask if there is a terminal"
		if spec := r.Engine(); spec != nil && spec.Credentials != nil {
			reason = spec.Credentials.Source() + ", then " + reason
		}
	case "tls":
		switch {
		case !r.address.Known():
		case r.address.TLS != nil:
			text, reason = r.address.TLS(r)
		case r.Local() && len(r.Hops()) > 0:
			text, reason = "offered", "the address is on the last hop's own machine"
		case r.Local():
			text, reason = "offered", "the address is on this machine"
		default:
			text, reason = "verified", "the address is not on this machine"
		}
	case "target":
		if r.address.Several != nil && r.address.Several(r) {
			text, reason = "any", "the first that serves"
		}
	}
	if text == "" {
		return Effective{}, false
	}
	return Effective{
		Field:  field,
		Value:  schema.Value{Kind: field.Kind, Raw: text},
		Origin: Origin{Kind: FromEngine, Reason: reason},
	}, true
}
