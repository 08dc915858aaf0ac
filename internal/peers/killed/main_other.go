//go:build !windows

// Command killed is for Windows only.
package main

func main() {}
