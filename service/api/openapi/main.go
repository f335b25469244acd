// Command openapi prints the API's OpenAPI 3.1 document, from which the
// console's types are made.
package main

import (
	"encoding/json"
	"fmt"
	"os"

	"github.com/prometheus/client_golang/prometheus"

	"diorthos/service/api"
)

func main() {
	e := json.NewEncoder(os.Stdout)
	e.SetIndent("", "  ")
	if err := e.Encode(api.New(api.Deps{Metrics: prometheus.NewRegistry()}).Spec()); err != nil {
		_, _ = fmt.Fprintln(os.Stderr, "openapi:", err)
		os.Exit(2)
	}
}
