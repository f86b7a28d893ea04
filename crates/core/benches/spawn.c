/* The yardstick for running recipes: spawns `sh -eu -c SCRIPT recipe` for each line of standard input,
   from two threads, and waits for each. */
#define _GNU_SOURCE
#include <pthread.h>
#include <spawn.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/wait.h>

extern char **environ;
static char *lines[1000000];
static int count, next;

static void *work(void *unused) {
    (void)unused;
    for (;;) {
        int at = __atomic_fetch_add(&next, 1, __ATOMIC_RELAXED);
        if (at >= count) return 0;
        char *arguments[] = {"sh", "-eu", "-c", lines[at], "recipe", 0};
        pid_t child;
        int status;
        if (posix_spawnp(&child, "sh", 0, 0, arguments, environ) != 0) exit(1);
        if (waitpid(child, &status, 0) != child || status != 0) exit(1);
    }
}

int main(void) {
    static char line[4096];
    while (count < 1000000 && fgets(line, sizeof line, stdin)) {
        line[strcspn(line, "\n")] = 0;
        lines[count++] = strdup(line);
    }
    pthread_t other;
    pthread_create(&other, 0, work, 0);
    work(0);
    pthread_join(other, 0);
    return 0;
}
