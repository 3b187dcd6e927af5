// The floors that the bench compares with, and the programs that both sides run. gcc -O2 -o floors floors.c
//   floors first FIFO            writes the time of its first instruction (CLOCK_REALTIME, ns) and then rests
//   floors spawn N FIFO          N times: posix_spawn "first", print the ns from before the call to its first instruction
//   floors respawn N FIFO        N times: kill -9 the child, as its parent start it again, print the ns from kill to first instruction
//   floors many N FIFO           start N at once, print the ns until the last one's first instruction
//   floors spew BYTES            prints lines of 100 bytes, as fast as it can
#define _GNU_SOURCE
#include <fcntl.h>
#include <signal.h>
#include <spawn.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

extern char **environ;
static const char *self;

static long long now(void) {
  struct timespec t;
  clock_gettime(CLOCK_REALTIME, &t);
  return t.tv_sec * 1000000000LL + t.tv_nsec;
}

static pid_t start(const char *fifo) {
  char *argv[] = {(char *)self, "first", (char *)fifo, NULL};
  pid_t pid;
  if (posix_spawn(&pid, self, NULL, NULL, argv, environ) != 0) exit(1);
  return pid;
}

static long long began(int fifo) {
  char text[20];
  size_t have = 0;
  while (have < sizeof text) {
    ssize_t got = read(fifo, text + have, sizeof text - have);
    if (got <= 0) exit(1);
    have += (size_t)got;
  }
  return atoll(text);
}

int main(int argc, char **argv) {
  long long first = now();
  self = "/proc/self/exe";
  if (argc == 3 && strcmp(argv[1], "first") == 0) {
    char text[24];
    snprintf(text, sizeof text, "%19lld\n", first);
    int fifo = open(argv[2], O_WRONLY);
    if (write(fifo, text, 20) != 20) return 1;
    close(fifo);
    for (;;) pause();
  }
  if (argc == 3 && strcmp(argv[1], "spew") == 0) {
    static char block[65500];
    for (size_t i = 0; i < sizeof block; i++) block[i] = i % 100 == 99 ? '\n' : 'a' + i % 26;
    for (long long left = atoll(argv[2]); left > 0;) {
      ssize_t put = write(1, block, left < (long long)sizeof block ? (size_t)left : sizeof block);
      if (put <= 0) return 1;
      left -= put;
    }
    return 0;
  }
  if (argc != 4) return 2;
  int n = atoi(argv[2]), fifo = open(argv[3], O_RDWR);
  if (strcmp(argv[1], "spawn") == 0) {
    for (int i = 0; i < n; i++) {
      usleep(200000); // one at a time, in the rhythm of the other side
      long long before = now();
      pid_t child = start(argv[3]);
      printf("%lld\n", began(fifo) - before);
      kill(child, SIGKILL);
      waitpid(child, NULL, 0);
    }
  } else if (strcmp(argv[1], "respawn") == 0) {
    pid_t child = start(argv[3]);
    began(fifo);
    for (int i = 0; i < n; i++) {
      long long before = now();
      kill(child, SIGKILL);
      waitpid(child, NULL, 0);
      child = start(argv[3]);
      printf("%lld\n", began(fifo) - before);
    }
    kill(child, SIGKILL);
  } else if (strcmp(argv[1], "many") == 0) {
    pid_t *children = calloc((size_t)n, sizeof *children);
    long long before = now(), last = 0;
    for (int i = 0; i < n; i++) children[i] = start(argv[3]);
    for (int i = 0; i < n; i++) {
      long long one = began(fifo);
      if (one > last) last = one;
    }
    printf("%lld\n", last - before);
    for (int i = 0; i < n; i++) kill(children[i], SIGKILL);
  }
  return 0;
}
