// The floors that the bench compares with, and the programs that both sides run. gcc -O2 -o floors floors.c -lutil
//   floors first FIFO            writes the time of its first instruction (CLOCK_REALTIME, ns) and then rests
//   floors once FIFO             writes the time of its first instruction and ends
//   floors moments N FIFO        sleeps until each of N moments (all at the next even second, or $SPACING ns apart) and starts
//                                "once"; prints by how much each one's first instruction is later, in ns
//   floors spawn N FIFO          N times: posix_spawn "first", print the ns from before the call to its first instruction
//   floors respawn N FIFO        N times: kill -9 the child, as its parent start it again, print the ns from kill to first instruction
//   floors many N FIFO           start N at once, print the ns until the last one's first instruction
//   floors serve PORT            listens on that TCP port of loopback and then rests
//   floors prove N PORT          start N at once, each serving a port from PORT on, poll the ports, print the ns until all take connections
//   floors spew BYTES            prints lines of 100 bytes, as fast as it can
//   floors chatter BYTES         prints lines as a log has them, each with its number
#define _GNU_SOURCE
#include <arpa/inet.h>
#include <fcntl.h>
#include <poll.h>
#include <pty.h>
#include <signal.h>
#include <spawn.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/ioctl.h>
#include <sys/wait.h>
#include <termios.h>
#include <time.h>
#include <unistd.h>

extern char **environ;
static const char *self;

static long long now(void) {
  struct timespec t;
  clock_gettime(CLOCK_REALTIME, &t);
  return t.tv_sec * 1000000000LL + t.tv_nsec;
}

static struct sockaddr_in at(int port) {
  return (struct sockaddr_in){.sin_family = AF_INET, .sin_port = htons((uint16_t)port), .sin_addr.s_addr = htonl(INADDR_LOOPBACK)};
}

static int answers(int port) {
  struct sockaddr_in address = at(port);
  int to = socket(AF_INET, SOCK_STREAM, 0), yes = connect(to, (struct sockaddr *)&address, sizeof address) == 0;
  close(to);
  return yes;
}

static pid_t start_as(const char *mode, const char *argument) {
  char *argv[] = {(char *)self, (char *)mode, (char *)argument, NULL};
  pid_t pid;
  if (posix_spawn(&pid, self, NULL, NULL, argv, environ) != 0) exit(1);
  return pid;
}

static pid_t start(const char *fifo) { return start_as("first", fifo); }

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

/* Both ways between two descriptors until one ends. */
static void carry(int from, int to, int back_from, int back_to) {
  char room[16384];
  struct pollfd wait[2] = {{from, POLLIN, 0}, {back_from, POLLIN, 0}};
  while (poll(wait, 2, -1) > 0)
    for (int i = 0; i < 2; i++) {
      if (!wait[i].revents) continue;
      ssize_t got = read(wait[i].fd, room, sizeof room);
      if (got <= 0) _exit(0);
      for (ssize_t put = 0; put < got;) {
        ssize_t more = write(i == 0 ? to : back_to, room + put, got - put);
        if (more <= 0) _exit(0);
        put += more;
      }
    }
}

/* A command at a terminal of 80x24, joined over as many hops as a service's: two sockets between the terminal and this one. */
static int relay(char **command) {
  int first[2], second[2], terminal;
  struct winsize size = {24, 80, 0, 0};
  if (socketpair(AF_UNIX, SOCK_STREAM, 0, first) || socketpair(AF_UNIX, SOCK_STREAM, 0, second)) return 1;
  if (fork() == 0) {
    if (forkpty(&terminal, NULL, NULL, &size) == 0) {
      execvp(command[0], command);
      _exit(127);
    }
    carry(terminal, first[0], first[0], terminal);
  }
  if (fork() == 0) carry(first[1], second[0], second[0], first[1]);
  struct termios raw;
  tcgetattr(0, &raw);
  cfmakeraw(&raw);
  tcsetattr(0, TCSANOW, &raw);
  carry(second[1], 1, 0, second[1]);
  return 0;
}

int main(int argc, char **argv) {
  long long first = now();
  self = "/proc/self/exe";
  if (argc >= 3 && strcmp(argv[1], "relay") == 0) return relay(argv + 2);
  if (argc == 3 && strcmp(argv[1], "first") == 0) {
    char text[24];
    snprintf(text, sizeof text, "%19lld\n", first);
    int fifo = open(argv[2], O_WRONLY);
    if (write(fifo, text, 20) != 20) return 1;
    close(fifo);
    for (;;) pause();
  }
  if (argc == 3 && strcmp(argv[1], "once") == 0) {
    char text[24];
    snprintf(text, sizeof text, "%19lld\n", first);
    int fifo = open(argv[2], O_WRONLY);
    return write(fifo, text, 20) != 20;
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
  if (argc == 3 && strcmp(argv[1], "chatter") == 0) {
    unsigned seed = 4711;
    long number = 0;
    for (long long left = atoll(argv[2]); left > 0; number++) {
      seed = seed * 1103515245 + 12345;
      int put = printf("entry %ld: visitor 10.%u.%u.%u asked for /departures/%u and got 200 after %u ms\n", number, seed >> 28,
                       seed >> 24 & 15, seed >> 16 & 255, seed >> 8 & 1023, seed >> 5 & 511);
      if (put <= 0) return 1;
      left -= put;
    }
    return 0;
  }
  if (argc == 3 && strcmp(argv[1], "serve") == 0) {
    struct sockaddr_in address = at(atoi(argv[2]));
    int one = 1, listener = socket(AF_INET, SOCK_STREAM, 0);
    setsockopt(listener, SOL_SOCKET, SO_REUSEADDR, &one, sizeof one);
    if (bind(listener, (struct sockaddr *)&address, sizeof address) < 0 || listen(listener, 16) < 0) return 1;
    for (;;) close(accept(listener, NULL, NULL));
  }
  if (argc != 4) return 2;
  if (strcmp(argv[1], "prove") == 0) {
    int count = atoi(argv[2]), from = atoi(argv[3]), left = count;
    pid_t *children = calloc((size_t)count, sizeof *children);
    long long before = now();
    for (int i = 0; i < count; i++) {
      char port[8];
      snprintf(port, sizeof port, "%d", from + i);
      children[i] = start_as("serve", port);
    }
    for (char *proven = calloc((size_t)count, 1); left > 0; usleep(1000))
      for (int i = 0; i < count; i++)
        if (!proven[i] && answers(from + i)) proven[i] = 1, left--;
    printf("%lld\n", now() - before);
    for (int i = 0; i < count; i++) kill(children[i], SIGKILL);
    return 0;
  }
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
  } else if (strcmp(argv[1], "moments") == 0) {
    long long spacing = getenv("SPACING") ? atoll(getenv("SPACING")) : 0;
    long long moment = (now() / 2000000000LL + 2) * 2000000000LL;
    signal(SIGCHLD, SIG_IGN);
    for (int i = 0; i < n; i++) {
      long long due = moment + i * spacing;
      struct timespec until = {due / 1000000000LL, due % 1000000000LL};
      clock_nanosleep(CLOCK_REALTIME, TIMER_ABSTIME, &until, NULL);
      start_as("once", argv[3]);
    }
    for (int i = 0; i < n; i++) printf("%lld\n", began(fifo) - moment - i * spacing);
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
