// Packs one static program as an image from scratch: an OCI image layout (image-spec, image-layout.md)
// in a tar file, the same bytes from the same program.
//
//	pack NAME:TAG PROGRAM OUT [ARGUMENT…]
package main

import (
	"archive/tar"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
)

type object map[string]any

func main() {
	if err := pack(os.Args[1], os.Args[2], os.Args[3], os.Args[4:]); err != nil {
		fmt.Fprintln(os.Stderr, "pack:", err)
		os.Exit(1)
	}
}

type entry struct {
	name string
	mode int64
	data []byte
}

func archive(entries ...entry) ([]byte, error) {
	var out bytes.Buffer
	writer := tar.NewWriter(&out)
	for _, e := range entries {
		if err := writer.WriteHeader(&tar.Header{Name: e.name, Mode: e.mode, Size: int64(len(e.data)), Format: tar.FormatUSTAR}); err != nil {
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

func blob(data []byte) entry { return entry{"blobs/sha256/" + sum(data), 0o644, data} }

func describe(media string, data []byte) object {
	return object{"mediaType": media, "digest": "sha256:" + sum(data), "size": len(data)}
}

func pack(image, program, out string, arguments []string) error {
	data, err := os.ReadFile(program)
	if err != nil {
		return err
	}
	name := filepath.Base(program)
	layer, err := archive(entry{name, 0o755, data})
	if err != nil {
		return err
	}
	config, _ := json.Marshal(object{
		"architecture": runtime.GOARCH, "os": "linux",
		"config": object{"Entrypoint": append([]string{"/" + name}, arguments...), "User": "65532:65532"},
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
	whole, err := archive(entry{"oci-layout", 0o644, []byte(`{"imageLayoutVersion":"1.0.0"}`)},
		entry{"index.json", 0o644, index}, blob(layer), blob(config), blob(manifest))
	if err != nil {
		return err
	}
	return os.WriteFile(out, whole, 0o644)
}
