package main

// oldCall is for machines that have such calls.
func oldCall() (worked bool) { return false }
