// Command sbom writes the list of what a built program is made of, as its build
// recorded it, in the CycloneDX format, version 1.5 (https://cyclonedx.org).
//
//	go run ./scripts/sbom PROGRAM VERSION > PROGRAM.cdx.json
package main

import (
	"crypto/sha256"
	"debug/buildinfo"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
)

type hash struct {
	Alg     string `json:"alg"`
	Content string `json:"content"`
}

type property struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

type component struct {
	Type       string     `json:"type"`
	Ref        string     `json:"bom-ref,omitempty"`
	Name       string     `json:"name"`
	Version    string     `json:"version"`
	PURL       string     `json:"purl,omitempty"`
	Hashes     []hash     `json:"hashes,omitempty"`
	Properties []property `json:"properties,omitempty"`
}

type list struct {
	Format  string `json:"bomFormat"`
	Spec    string `json:"specVersion"`
	Version int    `json:"version"`
	Meta    struct {
		Component component `json:"component"`
	} `json:"metadata"`
	Components []component `json:"components"`
}

func main() {
	if len(os.Args) != 3 {
		fmt.Fprintln(os.Stderr, "sbom: expected a program and its version")
		os.Exit(2)
	}
	if err := write(os.Stdout, os.Args[1], os.Args[2]); err != nil {
		fmt.Fprintln(os.Stderr, "sbom:", err)
		os.Exit(1)
	}
}

// write gives no time and no serial number, so that the same program has the same list.
func write(w io.Writer, path, version string) error {
	info, err := buildinfo.ReadFile(path)
	if err != nil {
		return err
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	sum := sha256.Sum256(text)
	l := list{Format: "CycloneDX", Spec: "1.5", Version: 1}
	l.Meta.Component = component{Type: "application", Name: filepath.Base(path), Version: version, Hashes: []hash{{"SHA-256", hex.EncodeToString(sum[:])}}}
	l.Components = append(l.Components, component{Type: "library", Ref: "std", Name: "std", Version: info.GoVersion, PURL: "pkg:golang/std@" + info.GoVersion[len("go"):]})
	for _, d := range info.Deps {
		if d.Replace != nil {
			d = d.Replace
		}
		purl := "pkg:golang/" + d.Path + "@" + d.Version
		l.Components = append(l.Components, component{Type: "library", Ref: purl, Name: d.Path, Version: d.Version, PURL: purl,
			Properties: []property{{"go:sum", d.Sum}}}) // what go.sum has, which is no plain digest of a file
	}
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	return e.Encode(l)
}
