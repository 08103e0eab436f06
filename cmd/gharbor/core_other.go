//go:build !unix

package main

func noCore() {}
