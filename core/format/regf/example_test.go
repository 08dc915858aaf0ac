package regf_test

import (
	"bytes"
	"fmt"
	"log"
	"time"

	"lockback/core/format/regf"
)

func Example() {
	// A hive is usually a file; a new one will do here.
	hive := regf.Create(make([]byte, 20), time.Now())
	root, err := hive.Root()
	if err != nil {
		log.Fatal(err)
	}
	run, err := hive.CreateKey(root, "Run", nil, time.Now())
	if err != nil {
		log.Fatal(err)
	}
	if err := hive.SetValue(run, regf.NewText("Fogbell Sync", `C:\Fogbell\sync.exe`)); err != nil {
		log.Fatal(err)
	}
	var file bytes.Buffer
	hive.Seal(time.Now())
	if _, err := hive.WriteTo(&file); err != nil {
		log.Fatal(err)
	}

	again, err := regf.Open(bytes.NewReader(file.Bytes()), int64(file.Len()))
	if err != nil {
		log.Fatal(err)
	}
	key, err := again.Key("Run")
	if err != nil {
		log.Fatal(err)
	}
	values, err := key.Values()
	for _, v := range values {
		fmt.Println(v.Name, "starts", v.Text())
	}
	fmt.Println(err)
	// Output:
	// Fogbell Sync starts C:\Fogbell\sync.exe
	// <nil>
}
