package render

import (
	"os"

	"golang.org/x/sys/windows"
)

// understandsEscapes makes a console take escape sequences, and reports whether it does: that of before Windows 10 does
// not, and others must be switched to it (SetConsoleMode).
func understandsEscapes(file *os.File) bool {
	console := windows.Handle(file.Fd())
	var mode uint32
	return windows.GetConsoleMode(console, &mode) == nil &&
		windows.SetConsoleMode(console, mode|windows.ENABLE_VIRTUAL_TERMINAL_PROCESSING) == nil
}
