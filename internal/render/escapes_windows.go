package render

import (
	"os"

	"golang.org/x/sys/windows"
)

// understandsEscapes switches a console to escape sequences (SetConsoleMode), and reports whether it takes them,
// which none did before Windows 10.
func understandsEscapes(file *os.File) bool {
	console := windows.Handle(file.Fd())
	var mode uint32
	return windows.GetConsoleMode(console, &mode) == nil &&
		windows.SetConsoleMode(console, mode|windows.ENABLE_VIRTUAL_TERMINAL_PROCESSING) == nil
}
