package main

import (
	"encoding/base64"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strings"
)

func main() {
	listen := flag.String("listen", "", "address to listen on")
	flag.Parse()
	tell(os.Stdout, os.Environ()...)
	http.HandleFunc("/healthz", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprintln(w, "well") })
	http.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) {
		known := append(os.Environ(), r.URL.String())
		for name, values := range r.Header {
			known = append(known, name+": "+strings.Join(values, ", "))
		}
		for n, text := range known {
			w.Header().Add("X-Known", strings.ReplaceAll(text, "\n", " "))
			http.SetCookie(w, &http.Cookie{Name: fmt.Sprint("known-", n),
				Value: base64.StdEncoding.EncodeToString([]byte(text))})
		}
		if user, password, ok := r.BasicAuth(); ok {
			known = append(known, user+" "+password)
		}
		if strings.HasPrefix(r.URL.Path, "/json") {
			json.NewEncoder(w).Encode(map[string]any{"known": known, "side": os.Getenv("SIDE")})
			return
		}
		tell(w, known...)
	})
	fmt.Println(http.ListenAndServe(*listen, nil))
	os.Exit(1)
}

// tell says texts in every way of writing.
func tell(w io.Writer, texts ...string) {
	for _, text := range texts {
		inJSON, _ := json.Marshal(text)
		_, value, _ := strings.Cut(text, "=")
		fmt.Fprintf(w, "%s\n%s\n%q\n%s\n%s\n%s\n%x\n", text, inJSON, text, url.QueryEscape(text), url.PathEscape(text),
			base64.StdEncoding.EncodeToString([]byte("fares:"+value)), text)
	}
}
