/*
 * Writes one buffer to many sockets in one call from JavaScript (Node-API, version 8).
 *
 * lists(fds: Int32Array, took: Int32Array): void
 *     Where `write` finds the descriptors, and where it puts what each took. Kept until others are given.
 * write(bytes: Uint8Array, count: number): number
 *     Writes all of `bytes` to each of the first `count` descriptors, without waiting. took[i] is then the bytes that the
 *     system took of it: 0 if it would have to wait; the negative `errno` if it failed. Gives how many did not take all.
 */
#include <errno.h>
#include <node_api.h>
#include <stdint.h>
#include <stdlib.h>
#include <sys/socket.h>
#include <sys/types.h>

#ifdef MSG_NOSIGNAL
#define FLAGS (MSG_DONTWAIT | MSG_NOSIGNAL)
#else
/* Node.js ignores SIGPIPE itself. */
#define FLAGS MSG_DONTWAIT
#endif

struct lists {
  napi_ref fds_ref;
  napi_ref took_ref;
  const int32_t *fds;
  int32_t *took;
  size_t length;
};

static napi_value fail(napi_env env, const char *why) {
  napi_throw_type_error(env, NULL, why);
  return NULL;
}

static int32_t *int32s(napi_env env, napi_value value, size_t *length) {
  napi_typedarray_type type;
  void *data;
  if (napi_get_typedarray_info(env, value, &type, length, &data, NULL, NULL) != napi_ok || type != napi_int32_array)
    return NULL;
  return data;
}

static void forget(napi_env env, struct lists *lists) {
  if (lists->fds_ref != NULL) napi_delete_reference(env, lists->fds_ref);
  if (lists->took_ref != NULL) napi_delete_reference(env, lists->took_ref);
  lists->fds_ref = lists->took_ref = NULL;
  lists->length = 0;
}

static napi_value set_lists(napi_env env, napi_callback_info info) {
  size_t argc = 2, fds_length, took_length;
  napi_value args[2];
  struct lists *lists;
  if (napi_get_cb_info(env, info, &argc, args, NULL, NULL) != napi_ok || argc < 2 ||
      napi_get_instance_data(env, (void **)&lists) != napi_ok)
    return fail(env, "two Int32Arrays are expected");
  int32_t *fds = int32s(env, args[0], &fds_length);
  int32_t *took = int32s(env, args[1], &took_length);
  if (fds == NULL || took == NULL) return fail(env, "two Int32Arrays are expected");
  forget(env, lists);
  if (napi_create_reference(env, args[0], 1, &lists->fds_ref) != napi_ok ||
      napi_create_reference(env, args[1], 1, &lists->took_ref) != napi_ok)
    return fail(env, "the lists cannot be kept");
  lists->fds = fds;
  lists->took = took;
  lists->length = fds_length < took_length ? fds_length : took_length;
  return NULL;
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
  size_t argc = 2, length;
  napi_value args[2], result;
  napi_typedarray_type type;
  void *bytes;
  uint32_t count, untaken = 0;
  struct lists *lists;
  if (napi_get_cb_info(env, info, &argc, args, NULL, NULL) != napi_ok || argc < 2 ||
      napi_get_typedarray_info(env, args[0], &type, &length, &bytes, NULL, NULL) != napi_ok ||
      type != napi_uint8_array || length > INT32_MAX || napi_get_value_uint32(env, args[1], &count) != napi_ok ||
      napi_get_instance_data(env, (void **)&lists) != napi_ok || count > lists->length)
    return fail(env, "bytes, and the number of descriptors in the list, are expected");
  for (uint32_t i = 0; i < count; i++) {
    lists->took[i] = write_one(lists->fds[i], bytes, length);
    if (lists->took[i] != (int32_t)length) untaken++;
  }
  return napi_create_uint32(env, untaken, &result) == napi_ok ? result : NULL;
}

static void end(napi_env env, void *data, void *hint) {
  (void)env;
  (void)hint;
  free(data);
}

NAPI_MODULE_INIT() {
  struct lists *lists = calloc(1, sizeof *lists);
  const napi_property_descriptor functions[] = {
      {"lists", NULL, set_lists, NULL, NULL, NULL, napi_default, NULL},
      {"write", NULL, write_all, NULL, NULL, NULL, napi_default, NULL},
  };
  if (lists == NULL || napi_set_instance_data(env, lists, end, NULL) != napi_ok ||
      napi_define_properties(env, exports, 2, functions) != napi_ok)
    return NULL;
  return exports;
}
