package source

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"vaiven/internal/core/plan"
	"vaiven/internal/world/place"
	"vaiven/internal/world/secret"
)

// sql reads the first row of a statement, in a transaction that can only read.
func (s *Sources) sql(ctx context.Context, rule plan.Guard, of Subject) ([]float64, error) {
	config, err := pgx.ParseConfig(s.secrets.Fill(s.plan.SQL.URL, nil, secret.InDSN(s.plan.SQL.URL)))
	if err != nil {
		return nil, errors.New("the address of the database cannot be read")
	}
	c, err := pgx.ConnectConfig(ctx, config)
	if err != nil {
		return nil, said(ctx, err)
	}
	defer func() { // a database that hangs by now is not waited for
		last, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
		defer cancel()
		_ = c.Close(last)
	}()
	tx, err := c.BeginTx(ctx, pgx.TxOptions{AccessMode: pgx.ReadOnly})
	if err != nil {
		return nil, said(ctx, err)
	}
	query := plan.Expand(rule.Figure.Query.Text, of.values(s.service, inSQL))
	rows, err := tx.Query(ctx, query, pgx.QueryExecModeSimpleProtocol)
	if err != nil {
		return nil, said(ctx, err)
	}
	defer rows.Close()
	var words []string
	found := rows.Next()
	if found {
		for _, raw := range rows.RawValues() {
			words = append(words, string(raw))
		}
	}
	more := found && rows.Next()
	rows.Close()
	switch err := rows.Err(); {
	case err != nil:
		return nil, said(ctx, err)
	case !found:
		return nil, errors.New("no row")
	case more:
		return nil, errors.New("more than one row")
	}
	return numbers(words)
}

// inSQL writes a text so that it can stand within quotes in SQL.
func inSQL(text string) string { return strings.ReplaceAll(text, "'", "''") }

// said is an error of a database without its address.
func said(ctx context.Context, err error) error {
	var pg *pgconn.PgError
	switch {
	case ctx.Err() != nil:
		return errors.New("no answer in time")
	case errors.As(err, &pg):
		return fmt.Errorf("%s (SQLSTATE %s)", pg.Message, pg.Code)
	}
	return err
}

// numbers reads what was told.
func numbers(words []string) (list []float64, err error) {
	for _, word := range words {
		v, err := strconv.ParseFloat(word, 64)
		if err != nil || v != v || v > 1e300 || v < -1e300 {
			return nil, fmt.Errorf("%q is no figure", word)
		}
		list = append(list, v)
	}
	return list, nil
}

// command runs one, and reads the numbers of the first line that it prints. Whom it is about stands in its environment
// too, as for hooks.
func (s *Sources) command(ctx context.Context, rule plan.Guard, of Subject) ([]float64, error) {
	values := of.values(s.service, strings.Clone)
	var words []string
	for _, word := range rule.Figure.Query.Words {
		words = append(words, plan.Expand(word, values))
	}
	cmd := place.Program(ctx, words...)
	cmd.Env = os.Environ()
	for _, name := range slices.Sorted(maps.Keys(values)) {
		cmd.Env = append(cmd.Env, "VAIVEN_"+strings.ToUpper(name)+"="+values[name])
	}
	var out, bad place.Output
	cmd.Stdout, cmd.Stderr = &out, &bad
	if err := cmd.Run(); err != nil {
		var exit *exec.ExitError
		switch text := strings.TrimSpace(string(bad.Bytes())); {
		case ctx.Err() != nil:
			return nil, errors.New("it did not end in time")
		case errors.As(err, &exit) && text != "":
			return nil, fmt.Errorf("exit status %d: %s", exit.ExitCode(), text)
		default:
			return nil, err
		}
	}
	line, _, _ := strings.Cut(strings.TrimSpace(string(out.Bytes())), "\n")
	if line == "" {
		return nil, errors.New("it printed nothing")
	}
	return numbers(strings.Fields(line))
}
