// Packs one static program as an image from scratch: an OCI image layout (image-spec, image-layout.md)
// in a tar file, the same bytes from the same program.
//
//	pack [-arch ARCH] [-bind] NAME:TAG PROGRAM OUT
//
// With -bind the program carries the right to bind low ports in its own file (capabilities(7), file capabilities).
package main

import (
	"archive/tar"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
)

type object map[string]any

func main() {
	arch := flag.String("arch", runtime.GOARCH, "architecture of the program")
	bind := flag.Bool("bind", false, "the program may bind low ports")
	flag.Parse()
	if err := pack(flag.Arg(0), flag.Arg(1), flag.Arg(2), *arch, *bind); err != nil {
		fmt.Fprintln(os.Stderr, "pack:", err)
		os.Exit(1)
	}
}

type entry struct {
	name    string
	mode    int64
	data    []byte
	records map[string]string
}

// The right in question, in the form that the kernel keeps it (linux/capability.h, revision 2, effective).
var bindRight = string([]byte{1, 0, 0, 2, 0, 4, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0})

func archive(entries ...entry) ([]byte, error) {
	var out bytes.Buffer
	writer := tar.NewWriter(&out)
	for _, e := range entries {
		format := tar.FormatUSTAR
		if e.records != nil {
			format = tar.FormatPAX
		}
		header := &tar.Header{Name: e.name, Mode: e.mode, Size: int64(len(e.data)), Format: format, PAXRecords: e.records}
		if err := writer.WriteHeader(header); err != nil {
			return nil, err
		}
		if _, err := writer.Write(e.data); err != nil {
			return nil, err
		}
	}
	err := writer.Close()
	return out.Bytes(), err
}

func sum(data []byte) string {
	hash := sha256.Sum256(data)
	return hex.EncodeToString(hash[:])
}

func blob(data []byte) entry { return entry{"blobs/sha256/" + sum(data), 0o644, data, nil} }

func describe(media string, data []byte) object {
	return object{"mediaType": media, "digest": "sha256:" + sum(data), "size": len(data)}
}

func pack(image, program, out, arch string, bind bool) error {
	data, err := os.ReadFile(program)
	if err != nil {
		return err
	}
	name := filepath.Base(program)
	var records map[string]string
	if bind {
		records = map[string]string{"SCHILY.xattr.security.capability": bindRight}
	}
	layer, err := archive(entry{name, 0o755, data, records})
	if err != nil {
		return err
	}
	config, _ := json.Marshal(object{
		"architecture": arch, "os": "linux",
		"config": object{"Entrypoint": []string{"/" + name}, "User": "65532:65532"},
		"rootfs": object{"type": "layers", "diff_ids": []string{"sha256:" + sum(layer)}},
	})
	manifest, _ := json.Marshal(object{
		"schemaVersion": 2, "mediaType": "application/vnd.oci.image.manifest.v1+json",
		"config": describe("application/vnd.oci.image.config.v1+json", config),
		"layers": []object{describe("application/vnd.oci.image.layer.v1.tar", layer)},
	})
	described := describe("application/vnd.oci.image.manifest.v1+json", manifest)
	described["annotations"] = object{"io.containerd.image.name": image}
	index, _ := json.Marshal(object{"schemaVersion": 2, "manifests": []object{described}})
	whole, err := archive(entry{"oci-layout", 0o644, []byte(`{"imageLayoutVersion":"1.0.0"}`), nil},
		entry{"index.json", 0o644, index, nil}, blob(layer), blob(config), blob(manifest))
	if err != nil {
		return err
	}
	return os.WriteFile(out, whole, 0o644)
}
