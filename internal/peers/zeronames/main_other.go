//go:build !windows

// Command zeronames is for Windows only.
package main

func main() {}
