// Command empty does nothing: what starting a Go program costs at the least.
package main

func main() {}
