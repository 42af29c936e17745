package place

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"time"
)

// relayRequest is the first line to a relay.
type relayRequest struct {
	Do       string `json:"do"` // "relay"
	Instance string `json:"instance,omitempty"`
	Address  string `json:"address"`
}

// relayAnswer is its first line back.
type relayAnswer struct {
	OK     bool   `json:"ok"`
	Cause  Cause  `json:"cause,omitempty"`
	Detail string `json:"detail,omitempty"`
}

// relayDial bounds how long a relay tries to connect.
const relayDial = 30 * time.Second

// ServeRelay is the far end of a relay: it reads where to connect, says whether it
// did, and passes bytes until one end closes.
func ServeRelay(ctx context.Context, in io.Reader, out io.Writer) error {
	r := bufio.NewReader(io.LimitReader(in, 64<<10))
	line, err := r.ReadBytes('\n')
	if err != nil {
		return fmt.Errorf("read where to connect: %w", err)
	}
	var q relayRequest
	if err := json.Unmarshal(line, &q); err != nil || q.Do != "relay" || q.Address == "" {
		return errors.Join(answer(out, relayAnswer{Cause: Other, Detail: "not a relay request"}), err)
	}
	limited, cancel := context.WithTimeout(ctx, relayDial)
	conn, err := Local{}.Dial(limited, "tcp", q.Address)
	cancel()
	if err != nil {
		return answer(out, relayAnswer{Cause: CauseOf(err), Detail: err.Error()})
	}
	defer conn.Close()
	if err := answer(out, relayAnswer{OK: true}); err != nil {
		return err
	}
	go func() {
		_, _ = io.Copy(conn, io.MultiReader(buffered(r), in))
		_ = conn.(*net.TCPConn).CloseWrite() // the other end has said all
	}()
	_, err = io.Copy(out, conn)
	return err
}

func answer(w io.Writer, a relayAnswer) error { return json.NewEncoder(w).Encode(a) }

// buffered is what a reader has read ahead.
func buffered(r *bufio.Reader) io.Reader { return io.LimitReader(r, int64(r.Buffered())) }

// Relay connects to an address by way of the far end of a stream, which it then
// owns. The connection has deadlines, whether the stream has any or not.
func Relay(ctx context.Context, stream io.ReadWriteCloser, instance, address string) (net.Conn, error) {
	stop := context.AfterFunc(ctx, func() { _ = stream.Close() })
	defer stop()
	fail := func(err error) (net.Conn, error) {
		if ctx.Err() != nil {
			err = ctx.Err()
		}
		return nil, errors.Join(err, stream.Close())
	}
	if err := json.NewEncoder(stream).Encode(relayRequest{Do: "relay", Instance: instance,
		Address: address}); err != nil {
		return fail(fmt.Errorf("ask the relay: %w", err))
	}
	r := bufio.NewReader(stream)
	line, err := r.ReadBytes('\n')
	if err != nil {
		return fail(fmt.Errorf("the relay did not answer: %w", err))
	}
	var a relayAnswer
	if err := json.Unmarshal(line, &a); err != nil {
		return fail(fmt.Errorf("the relay answered with something else: %q", line))
	}
	if !a.OK {
		return fail(Failure(a.Cause, address, a.Detail))
	}
	near, far := net.Pipe()
	go func() { // until the relay ends
		_, _ = io.Copy(far, r)
		_ = far.Close()
	}()
	go func() { // until the connection is closed
		_, _ = io.Copy(stream, far)
		_ = stream.Close()
	}()
	return near, nil
}
