package api

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"time"

	"vaiven/internal/keeper"
)

func (s *Server) crossings(w http.ResponseWriter, r *http.Request) error {
	book, err := s.keeper.Logbook(r.Context())
	if err == nil {
		answer(w, http.StatusOK, book)
	}
	return err
}

// numbered is the crossing that a request asks for.
func numbered(r *http.Request) (int, error) {
	n, err := strconv.Atoi(r.PathValue("number"))
	if err != nil || n < 1 {
		return 0, wrong("%q is not the number of a crossing", r.PathValue("number"))
	}
	return n, nil
}

func (s *Server) crossing(w http.ResponseWriter, r *http.Request) error {
	n, err := numbered(r)
	if err != nil {
		return err
	}
	upTo := uint64(0)
	if text := r.URL.Query().Get("up_to"); text != "" {
		if upTo, err = strconv.ParseUint(text, 10, 64); err != nil {
			return wrong("up_to=%q is not the number of an event", text)
		}
	}
	told, err := s.keeper.EventsOf(r.Context(), n, upTo)
	if err == nil {
		answer(w, http.StatusOK, told)
	}
	return err
}

func (s *Server) recording(w http.ResponseWriter, r *http.Request) error {
	n, err := numbered(r)
	if err != nil {
		return err
	}
	data, err := s.keeper.Recorded(r.Context(), n)
	if err != nil {
		return err
	}
	w.Header().Set("Content-Type", "application/gzip")
	control := http.NewResponseController(w)
	for piece := range slices.Chunk(data, 64<<10) {
		_ = control.SetWriteDeadline(time.Now().Add(writeLimit))
		if _, err := w.Write(piece); err != nil {
			return nil // whoever has left learns of it by looking
		}
	}
	return nil
}

// Logbook is all crossings, and what was done outside of them.
func (c *Client) Logbook(ctx context.Context) (keeper.Logbook, error) {
	var book keeper.Logbook
	return book, c.call(ctx, http.MethodGet, "/v1/crossings", nil, &book)
}

// EventsOf is all that happened in a crossing, up to an event.
func (c *Client) EventsOf(ctx context.Context, number int, upTo uint64) (keeper.Told, error) {
	var told keeper.Told
	path := fmt.Sprintf("/v1/crossings/%d", number)
	if upTo > 0 {
		path += fmt.Sprintf("?up_to=%d", upTo)
	}
	return told, c.call(ctx, http.MethodGet, path, nil, &told)
}

// Recorded is what was seen of a crossing, as the file of its recording has it.
func (c *Client) Recorded(ctx context.Context, number int) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, answerLimit)
	defer cancel()
	w, err := c.request(ctx, http.MethodGet, fmt.Sprintf("/v1/crossings/%d/recording", number), nil)
	if err != nil {
		return nil, err
	}
	defer w.Body.Close()
	data, err := io.ReadAll(w.Body)
	if err != nil {
		return nil, fmt.Errorf("%w: its answer: %w", ErrGone, err)
	}
	return data, nil
}
