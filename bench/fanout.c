/*
 * What the machine gives a plain program: ready-made frames, written to many connections one after another.
 *
 *   cc -O2 -o fanout fanout.c && ./fanout CONNECTIONS
 *
 * Prints its port, accepts CONNECTIONS connections on loopback, then obeys lines `BYTES BURST MS` on standard input: for MS
 * milliseconds writes BURST frames of BYTES bytes, joined, to each connection, round after round. Answers with a line
 * `MESSAGES SECONDS CPU_SECONDS`.
 */
#include <arpa/inet.h>
#include <netinet/tcp.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/resource.h>
#include <sys/socket.h>
#include <time.h>
#include <unistd.h>

static double now(void) {
  struct timespec t;
  clock_gettime(CLOCK_MONOTONIC, &t);
  return t.tv_sec + t.tv_nsec / 1e9;
}

static double cpu(void) {
  struct rusage u;
  getrusage(RUSAGE_SELF, &u);
  return u.ru_utime.tv_sec + u.ru_stime.tv_sec + (u.ru_utime.tv_usec + u.ru_stime.tv_usec) / 1e6;
}

int main(int argc, char **argv) {
  int count = argc > 1 ? atoi(argv[1]) : 1000;
  int *sockets = malloc(sizeof(int) * count);
  int server = socket(AF_INET, SOCK_STREAM, 0), on = 1, bytes, burst, ms;
  struct sockaddr_in address = {.sin_family = AF_INET, .sin_addr = {htonl(INADDR_LOOPBACK)}};
  socklen_t size = sizeof address;
  if (bind(server, (struct sockaddr *)&address, size) || listen(server, 1024)) return perror("listen"), 1;
  getsockname(server, (struct sockaddr *)&address, &size);
  printf("%d\n", ntohs(address.sin_port));
  fflush(stdout);
  for (int i = 0; i < count; i++) {
    if ((sockets[i] = accept(server, NULL, NULL)) < 0) return perror("accept"), 1;
    setsockopt(sockets[i], IPPROTO_TCP, TCP_NODELAY, &on, sizeof on);
  }
  while (scanf("%d %d %d", &bytes, &burst, &ms) == 3) {
    size_t length = (size_t)bytes * burst;
    char *frames = malloc(length);
    memset(frames, 'x', length);
    double started = now(), before = cpu(), ended;
    long messages = 0;
    do {
      for (int i = 0; i < count; i++)
        for (size_t done = 0; done < length;) {
          ssize_t part = write(sockets[i], frames + done, length - done);
          if (part < 0) return perror("write"), 1;
          done += part;
        }
      messages += burst;
    } while ((ended = now()) - started < ms / 1e3);
    printf("%ld %f %f\n", messages, ended - started, cpu() - before);
    fflush(stdout);
    free(frames);
  }
  return 0;
}
