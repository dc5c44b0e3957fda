package main

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"lucidorchard/core/evidence"
)

func verifyEvidenceCommand() *cobra.Command {
	var key string
	cmd := &cobra.Command{
		Use:   "verify-evidence F [INPUT]... [--key FINGERPRINT]",
		Short: "Verify the signature of evidence, and its inputs",
		Long: "Verify that the evidence in a JSON file was not changed since it was signed.\n\n" +
			"The file contains the public key; compare its fingerprint with the one that the\nserver shows beside its evidence, or pass that fingerprint with --key.\n" +
			"Files of inputs, as the server hands them out, are compared with the sums in it.\n\nEnds with 0 if all is right, with 1 if something is not.",
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return verifyEvidence(cmd.OutOrStdout(), args[0], args[1:], key)
		},
	}
	cmd.Flags().StringVar(&key, "key", "", "fingerprint of the key that must have signed it")
	return cmd
}

func verifyEvidence(out io.Writer, name string, files []string, want string) error {
	text, err := os.ReadFile(name)
	if err != nil {
		return unusable("%s", err)
	}
	e, key, err := evidence.Verify(text)
	if err != nil {
		return exit{1, name + ": " + err.Error()}
	}
	print := evidence.Fingerprint(key)
	bare := func(s string) string { return strings.ToLower(strings.ReplaceAll(s, " ", "")) }
	if want != "" && bare(want) != bare(print) {
		return exit{1, fmt.Sprintf("%s: it was signed by another key: %s, expected %s", name, print, want)}
	}
	fmt.Fprintf(out, "%s\n%s to %s: %s\nmade %s by %s; it is what was signed\nkey %s", e.Promise.Words,
		e.From.Format("2 Jan 2006"),
		e.To.Add(-1).Format("2 Jan 2006"), e.Sentence, e.Made.Format("2 Jan 2006 15:04 UTC"), e.By, print)
	if want == "" {
		fmt.Fprint(out, "  (compare it with the server's)")
	}
	fmt.Fprintln(out)
	wrong := 0
	for _, f := range files {
		words, err := comparedInput(e, f)
		if err != nil {
			return unusable("%s", err)
		}
		if words == "" {
			wrong++
			words = "is none of the inputs that it was made from"
		}
		fmt.Fprintf(out, "%s %s\n", f, words)
	}
	if wrong > 0 {
		return exit{1, ""}
	}
	return nil
}

// comparedInput reports which input a file is; blank: none.
func comparedInput(e *evidence.Evidence, name string) (string, error) {
	text, err := os.ReadFile(name)
	if err != nil {
		return "", err
	}
	sum := sha256.Sum256(text)
	for _, in := range e.Inputs {
		if in.SHA256 == hex.EncodeToString(sum[:]) {
			return fmt.Sprintf("is the input “%s”, %d lines", in.Name, bytes.Count(text, []byte("\n"))), nil
		}
	}
	return "", nil
}
