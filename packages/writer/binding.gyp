{
  "targets": [
    {
      "target_name": "writer",
      "sources": ["writer.c"],
      "defines": ["NAPI_VERSION=8"],
      "cflags": ["-O2", "-Wall", "-Wextra"],
      "xcode_settings": { "OTHER_CFLAGS": ["-O2", "-Wall", "-Wextra"] }
    }
  ]
}
