package secret_test

import (
	"fmt"
	"net/url"

	"vaiven/internal/core/plan"
	"vaiven/internal/world/secret"
)

func ExampleValues() {
	values, err := secret.Read(map[string]plan.Secret{"fares": {File: "/etc/vaiven/fares"}})
	if err == nil {
		fmt.Println(values.Fill("postgres://fares:{secret fares}@db/fares", nil, url.PathEscape))
	}
}
