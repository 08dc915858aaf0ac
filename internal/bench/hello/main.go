// Command hello is the smallest program that prints, to hold the start of a
// larger one against.
package main

import "fmt"

func main() { fmt.Println("hello") }
