module saltmarsh.example/lab/images

go 1.26
