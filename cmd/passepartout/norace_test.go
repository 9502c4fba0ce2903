//go:build !race

package main_test

const raced = false
