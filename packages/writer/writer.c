/*
 * Writes one buffer to many sockets in one call from JavaScript (Node-API, version 8).
 *
 * write(bytes: Uint8Array, fds: Int32Array, took: Int32Array, count: number): number
 *     Writes all of `bytes` to each of the first `count` descriptors, without waiting. took[i] is then the bytes that the
 *     system took of it: 0 if it would have to wait; the negative `errno` if it failed. Gives how many did not take all.
 *     It remembers nothing between calls: several services may use it in one process.
 */
#include <errno.h>
#include <node_api.h>
#include <stdint.h>
#include <sys/socket.h>
#include <sys/types.h>

#ifdef MSG_NOSIGNAL
#define FLAGS (MSG_DONTWAIT | MSG_NOSIGNAL)
#else
/* Node.js ignores SIGPIPE itself. */
#define FLAGS MSG_DONTWAIT
#endif

static napi_value fail(napi_env env, const char *why) {
  napi_throw_type_error(env, NULL, why);
  return NULL;
}

static void *items_of(napi_env env, napi_value value, napi_typedarray_type wanted, size_t *length) {
  napi_typedarray_type type;
  void *data;
  if (napi_get_typedarray_info(env, value, &type, length, &data, NULL, NULL) != napi_ok || type != wanted) return NULL;
  return data;
}

static int32_t write_one(int fd, const char *bytes, size_t length) {
  for (;;) {
    ssize_t took = send(fd, bytes, length, FLAGS);
    if (took >= 0) return (int32_t)took;
    if (errno == EINTR) continue;
    return errno == EAGAIN || errno == EWOULDBLOCK ? 0 : -errno;
  }
}

static napi_value write_all(napi_env env, napi_callback_info info) {
  size_t argc = 4, length, fds_length, took_length;
  napi_value args[4], result;
  uint32_t count, untaken = 0;
  if (napi_get_cb_info(env, info, &argc, args, NULL, NULL) != napi_ok || argc < 4)
    return fail(env, "bytes, descriptors, a list for what they took, and a number are expected");
  const char *bytes = items_of(env, args[0], napi_uint8_array, &length);
  const int32_t *fds = items_of(env, args[1], napi_int32_array, &fds_length);
  int32_t *took = items_of(env, args[2], napi_int32_array, &took_length);
  if (bytes == NULL || fds == NULL || took == NULL || length > INT32_MAX ||
      napi_get_value_uint32(env, args[3], &count) != napi_ok || count > fds_length || count > took_length)
    return fail(env, "bytes, descriptors, a list for what they took, and a number are expected");
  for (uint32_t i = 0; i < count; i++) {
    took[i] = write_one(fds[i], bytes, length);
    if (took[i] != (int32_t)length) untaken++;
  }
  return napi_create_uint32(env, untaken, &result) == napi_ok ? result : NULL;
}

NAPI_MODULE_INIT() {
  const napi_property_descriptor function = {"write", NULL, write_all, NULL, NULL, NULL, napi_default, NULL};
  return napi_define_properties(env, exports, 1, &function) == napi_ok ? exports : NULL;
}
