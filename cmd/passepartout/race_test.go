//go:build race

package main_test

// raced: the program under test is built with the race detector too, and ends with a status of its own when one is found.
const raced = true
