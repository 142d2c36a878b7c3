// Package registry knows the endpoints that have the schemas of messages. Streams and sinks name them with SCHEMAS.
package registry

import (
	"context"
	"fmt"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/schemas"
	"fiume/internal/connect/trust"
	"fiume/internal/core/plan"
)

// Connector is REGISTRY.
var Connector connector

type connector struct{}

// Place implements contract.Connector.
func (connector) Place() plan.Place { return described }

var described = plan.Place{
	Kind:     "registry",
	About:    "a registry of schemas, over its usual HTTP interface: streams and sinks name it with SCHEMAS",
	Traits:   plan.Traits{HasSchemas: true},
	Endpoint: true,
	Address:  func(address string) error { _, err := schemas.Address(address); return err },
	Options:  trust.Certificates(),
	Example: `DECLARE ENDPOINT schemas REGISTRY 'https://timing@10.0.0.5:8081' SECRET 'schemas';
DECLARE STREAM told COLUMNS SAMPLED FROM TOPIC 'told' (FORMAT avro, SCHEMAS schemas);
DECLARE SINK tell TO TOPIC 'tell' (FORMAT avro, SCHEMAS schemas, SUBJECT 'tell');`,
}

// Test implements contract.Tester.
func (connector) Test(ctx context.Context, env *contract.Env, of contract.Tested, r *contract.Report) {
	g, err := schemas.Open(of.Endpoint, env.Secret)
	var list []string
	if err == nil {
		list, err = g.Subjects(ctx)
	}
	r.Saw("reachable", err, fmt.Sprintf("%d subjects", len(list)))
}

// List implements contract.Lister.
func (connector) List(ctx context.Context, env *contract.Env, via *plan.Endpoint) ([]string, error) {
	g, err := schemas.Open(via, env.Secret)
	if err != nil {
		return nil, err
	}
	return g.Subjects(ctx)
}
