// Command readfiles reads the files that are named on its standard input, and
// does nothing else: the measure that an inventory is held against.
package main

import (
	"bufio"
	"fmt"
	"os"
)

func main() {
	total := 0
	for names := bufio.NewScanner(os.Stdin); names.Scan(); {
		content, err := os.ReadFile(names.Text())
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		total += len(content)
	}
	fmt.Println(total)
}
