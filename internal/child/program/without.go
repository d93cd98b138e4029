//go:build !reader || !linux

package program

var compressed string
