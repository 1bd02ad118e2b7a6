package document_test

import (
	"fmt"

	"yamato/internal/core/document"
)

// A slip in what people write is told with its line, and with what was probably meant.
func ExampleRead() {
	var site struct {
		Site    string   `yaml:"site"`
		Devices []string `yaml:"devices"`
	}
	fmt.Println(document.Read([]byte("site: bench\ndevices: [kaede-7-1]\n"), &site), site.Site, site.Devices)
	fmt.Println(document.Read([]byte("site: bench\ndevises: [kaede-7-1]\n"), &site))
	// Output:
	// <nil> bench [kaede-7-1]
	// line 2: there is no `devises`; did you mean `devices`?
	//    1 | site: bench
	// >  2 | devises: [kaede-7-1]
	//        ^
}
