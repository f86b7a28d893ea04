/* The floor of a run with nothing to do: a process that looks once, with lstat, at every file of a list (names
   with a NUL behind each) from two threads. */
#include <fcntl.h>
#include <pthread.h>
#include <stdio.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <unistd.h>

static const char *names;
static size_t size, middle;

static void *look(void *second) {
    const char *at = names + (second ? middle : 0), *end = names + (second ? size : middle);
    for (; at < end; at += strlen(at) + 1) {
        struct stat found;
        if (lstat(at, &found) != 0) _exit(1);
    }
    return 0;
}

int main(int count, char **words) {
    struct stat list;
    pthread_t other;
    if (count != 2) return 2;
    int file = open(words[1], O_RDONLY);
    if (file < 0 || fstat(file, &list) != 0) return 2;
    size = (size_t)list.st_size;
    names = mmap(0, size, PROT_READ, MAP_PRIVATE, file, 0);
    if (names == MAP_FAILED) return 2;
    for (middle = size / 2; middle < size && names[middle - 1]; middle++) {}
    if (pthread_create(&other, 0, look, &size) != 0) return 2;
    look(0);
    pthread_join(other, 0);
    return 0;
}
