package main

import "github.com/spf13/cobra"

func serveCommand(o *options) *cobra.Command { return &cobra.Command{Use: "serve", Hidden: true} }
func demoCommand(o *options) *cobra.Command  { return &cobra.Command{Use: "demo", Hidden: true} }
