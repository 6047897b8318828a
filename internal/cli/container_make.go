package cli

func containerMake() *command   { return &command{name: "container make"} }
func containerRemove() *command { return &command{name: "container remove"} }
