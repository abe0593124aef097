//go:build !linux

package main

import "errors"

func plugs() error { return errors.New("plugs are measured on Linux only") }
