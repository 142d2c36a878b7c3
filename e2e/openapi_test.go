package e2e

import (
	"context"
	"encoding/json"
	"flag"
	"io"
	"net/http"
	"os"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
)

var keepOpenAPI = flag.Bool("openapi", false, "write the document that the service serves into console/openapi.json")

// TestOpenAPI: the document that the console's client is generated from is the service's own; it is valid, every operation
// says what it does and how it fails, and lists are pages.
func TestOpenAPI(t *testing.T) {
	p := serve(t, t.TempDir())
	resp, err := http.Get(p.base + "/openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	data, err := io.ReadAll(resp.Body)
	if err != nil {
		t.Fatal(err)
	}
	var served any
	if err := json.Unmarshal(data, &served); err != nil {
		t.Fatal(err)
	}
	sorted, err := json.MarshalIndent(served, "", " ")
	if err != nil {
		t.Fatal(err)
	}
	const file = "../console/openapi.json"
	if *keepOpenAPI {
		if err := os.WriteFile(file, append(sorted, '\n'), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	var kept any
	if data, err := os.ReadFile(file); err != nil || json.Unmarshal(data, &kept) != nil {
		t.Fatal(err)
	}
	if other, _ := json.MarshalIndent(kept, "", " "); string(other) != string(sorted) {
		t.Error("console/openapi.json is not what the service serves; make openapi writes it anew")
	}
	doc, err := openapi3.NewLoader().LoadFromData(data)
	if err != nil {
		t.Fatal(err)
	}
	if err := doc.Validate(context.Background(), openapi3.DisableExamplesValidation()); err != nil {
		t.Error(err)
	}
	ids, operations := map[string]bool{}, 0
	for path, item := range doc.Paths.Map() {
		for method, op := range item.Operations() {
			at := method + " " + path
			operations++
			if op.OperationID == "" || ids[op.OperationID] {
				t.Errorf("%s: the id %q is missing or there twice", at, op.OperationID)
			}
			ids[op.OperationID] = true
			if op.Summary == "" {
				t.Errorf("%s says nothing about itself", at)
			}
			if op.Responses.Default() == nil && op.Responses.Value("422") == nil {
				t.Errorf("%s does not say how it fails", at)
			}
			if ok := op.Responses.Value("200"); method == "GET" && ok != nil && ok.Value != nil {
				if j := ok.Value.Content.Get("application/json"); j != nil && j.Schema != nil && j.Schema.Value.Type.Is("array") {
					t.Errorf("%s gives a list that is not paged", at)
				}
			}
		}
	}
	if operations < 40 {
		t.Errorf("only %d operations", operations)
	}
	p.stop()
}
