// What zoisite verify runs in pods: answers with its own name, and asks others when told to.
//
//	probe serve             answers on port 8080 with its host's name
//	probe name NAME         prints the addresses of a name, as the pod resolves it
//	probe fetch URL         prints what a URL answers
package main

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"time"
)

func main() {
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "probe:", err)
		os.Exit(1)
	}
}

func run(arguments []string) error {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	switch {
	case len(arguments) == 1 && arguments[0] == "serve":
		return serve()
	case len(arguments) == 2 && arguments[0] == "name":
		addresses, err := net.DefaultResolver.LookupHost(ctx, arguments[1])
		if err != nil {
			return err
		}
		fmt.Println(strings.Join(addresses, "\n"))
		return nil
	case len(arguments) == 2 && arguments[0] == "fetch":
		request, err := http.NewRequestWithContext(ctx, http.MethodGet, arguments[1], nil)
		if err != nil {
			return err
		}
		response, err := http.DefaultClient.Do(request)
		if err != nil {
			return err
		}
		defer response.Body.Close()
		_, err = io.Copy(os.Stdout, response.Body)
		return err
	}
	return fmt.Errorf("usage: probe serve | name NAME | fetch URL")
}

func serve() error {
	host, err := os.Hostname()
	if err != nil {
		return err
	}
	fmt.Println("probe serves on", host)
	server := &http.Server{Addr: ":8080", Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprintln(w, host)
	})}
	ended := make(chan os.Signal, 1)
	signal.Notify(ended, syscall.SIGINT, syscall.SIGTERM)
	go func() {
		<-ended
		server.Close()
	}()
	if err := server.ListenAndServe(); err != http.ErrServerClosed {
		return err
	}
	return nil
}
