package run
