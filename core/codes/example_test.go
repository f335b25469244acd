package codes_test

import (
	"fmt"

	"diorthos/core/codes"
	"diorthos/core/knowledge"
	shipped "diorthos/knowledge"
)

// A code is explained as it was told: in words, misspelt, over the phone.
func ExampleTable_Explain() {
	k, err := knowledge.Load(shipped.Files)
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, word := range k.Codes.Explain("ENOSPC").Words {
		fmt.Println(word.Value, word.Name, word.Text)
	}
	for _, value := range codes.Find("the update ended with code 0x40170002 at 12:04") {
		for _, reading := range k.Codes.Decode(value, "corbel")[:1] {
			fmt.Println(reading.Value, reading.Family, reading.Text)
		}
	}
	// Output:
	// 28 ENOSPC No space left on device
	// 0x40170002 corbel the loader is missing or damaged
}
