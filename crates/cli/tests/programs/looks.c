/* One way to look at a file for each name that is given as the first argument. Called in the project's folder; the
 * second argument is that folder as an absolute path, the third a folder outside of it. */
#define _GNU_SOURCE
#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <linux/openat2.h>
#include <pthread.h>
#include <spawn.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/inotify.h>
#include <sys/mman.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <sys/un.h>
#include <sys/wait.h>
#include <sys/xattr.h>
#include <unistd.h>

extern char **environ;
static const char *root, *outside;

static int folder(const char *name) { return open(name, O_RDONLY | O_DIRECTORY); }

static char *below(const char *where, const char *name) {
  static char path[4096];
  snprintf(path, sizeof path, "%s/%s", where, name);
  return path;
}

static void *in_thread(void *unused) {
  open("data/a.txt", O_RDONLY);
  return unused;
}

static void list(const char *name) {
  DIR *open = opendir(name);
  while (open && readdir(open)) {}
  if (open) closedir(open);
}

static void wait_for(pid_t child) { waitpid(child, NULL, 0); }

static int look(const char *way) {
  struct stat found;
  struct statx more;
  char text[256];
#define IS(name) (strcmp(way, name) == 0)
  if (IS("open")) return open("data/a.txt", O_RDONLY);
  if (IS("open-missing")) return open("data/none", O_RDONLY);
  if (IS("open-below-missing")) return open("nowhere/deep/none", O_RDONLY);
  if (IS("open-below-file")) return open("data/a.txt/none", O_RDONLY);
  if (IS("old-open")) return syscall(SYS_open, "data/a.txt", O_RDONLY);
  if (IS("openat")) return openat(folder("data"), "a.txt", O_RDONLY);
  if (IS("openat-missing")) return openat(folder("data"), "none", O_RDONLY);
  if (IS("openat2")) {
    struct open_how how = {.flags = O_RDONLY};
    return syscall(SYS_openat2, AT_FDCWD, "data/a.txt", &how, sizeof how);
  }
  if (IS("open-path")) return open("data/a.txt", O_PATH);
  if (IS("stat")) return syscall(SYS_stat, "data/a.txt", &found);
  if (IS("lstat")) return syscall(SYS_lstat, "data/a.txt", &found);
  if (IS("fstatat")) return fstatat(AT_FDCWD, "data/a.txt", &found, 0);
  if (IS("fstatat-named-empty")) return fstatat(folder("data"), "a.txt", &found, AT_EMPTY_PATH);
  if (IS("fstat")) return fstat(open("data/a.txt", O_RDONLY), &found);
  if (IS("statx")) return statx(AT_FDCWD, "data/a.txt", 0, STATX_ALL, &more);
  if (IS("stat-folder")) return stat("data", &found);
  if (IS("stat-missing")) return stat("data/none", &found);
  if (IS("access")) return access("data/a.txt", R_OK);
  if (IS("faccessat")) return faccessat(folder("data"), "a.txt", R_OK, 0);
  if (IS("faccessat2")) return syscall(SYS_faccessat2, AT_FDCWD, "data/a.txt", R_OK, 0);
  if (IS("readlink")) return readlink("link.txt", text, sizeof text);
  if (IS("readlinkat")) return readlinkat(AT_FDCWD, "link.txt", text, sizeof text);
  if (IS("getxattr")) return getxattr("data/a.txt", "user.none", text, sizeof text);
  if (IS("listxattr")) return llistxattr("data/a.txt", text, sizeof text);
  if (IS("inotify")) return inotify_add_watch(inotify_init(), "data/a.txt", IN_MODIFY);
  if (IS("list")) return list("data"), 0;
  if (IS("list-root")) return list("."), 0;
  if (IS("list-old")) return syscall(SYS_getdents, folder("data"), text, sizeof text);
  if (IS("folder-not-listed")) return folder("data");
  if (IS("execute")) return execl("tools/run.sh", "run.sh", NULL);
  if (IS("execute-nested")) return execl("tools/nested.sh", "nested.sh", NULL);
  if (IS("execute-missing")) return execl("tools/none.sh", "none.sh", NULL);
  if (IS("execveat")) {
    char *words[] = {"run.sh", NULL};
    return syscall(SYS_execveat, folder("tools"), "run.sh", words, environ, 0);
  }
  if (IS("spawn")) {
    pid_t child;
    char *words[] = {"run.sh", NULL};
    if (posix_spawn(&child, "tools/run.sh", NULL, NULL, words, environ) == 0) wait_for(child);
    return 0;
  }
  if (IS("fork")) {
    pid_t child = fork();
    if (child == 0) _exit(open("data/a.txt", O_RDONLY) < 0);
    return wait_for(child), 0;
  }
  if (IS("grandchild")) {
    pid_t child = fork();
    if (child == 0) {
      setsid();
      pid_t other = fork();
      if (other == 0) _exit(open("data/a.txt", O_RDONLY) < 0);
      wait_for(other);
      _exit(0);
    }
    return wait_for(child), 0;
  }
  if (IS("thread")) {
    pthread_t thread;
    pthread_create(&thread, NULL, in_thread, NULL);
    return pthread_join(thread, NULL);
  }
  if (IS("chdir")) return chdir("data"), open("a.txt", O_RDONLY);
  if (IS("fchdir")) return fchdir(folder("data")), open("a.txt", O_RDONLY);
  if (IS("chroot")) {
    if (chroot(root) != 0) return puts("refused"), 0;
    return open("/data/a.txt", O_RDONLY);
  }
  if (IS("absolute")) return open(below(root, "data/a.txt"), O_RDONLY);
  if (IS("dots")) return open("./data/../data/./a.txt", O_RDONLY);
  if (IS("dots-behind-link")) return open("dirlink/../data/a.txt", O_RDONLY);
  if (IS("slashes")) return open("data//a.txt", O_RDONLY);
  if (IS("link")) return open("link.txt", O_RDONLY);
  if (IS("dangling")) return open("dangling", O_RDONLY);
  if (IS("folder-link")) return open("dirlink/a.txt", O_RDONLY);
  if (IS("outside-link")) return open(below(outside, "inside/a.txt"), O_RDONLY);
  if (IS("outside-file-link")) return open(below(outside, "file"), O_RDONLY);
  if (IS("proc-cwd")) return open("/proc/self/cwd/data/a.txt", O_RDONLY);
  if (IS("proc-fd")) {
    snprintf(text, sizeof text, "/proc/self/fd/%d/a.txt", folder("data"));
    return open(text, O_RDONLY);
  }
  if (IS("hard-link")) return link("data/a.txt", "out/hard");
  if (IS("rename-missing")) return rename("data/none", "out/none");
  if (IS("unlink-missing")) return unlink("data/none");
  if (IS("write-new")) return open("out/beside", O_WRONLY | O_CREAT, 0600);
  if (IS("write-and-remove")) return open("data/temporary", O_WRONLY | O_CREAT, 0600), unlink("data/temporary");
  if (IS("look-write-read")) {
    stat("data/cache", &found);
    close(open("data/cache", O_WRONLY | O_CREAT, 0600));
    return open("data/cache", O_RDONLY), unlink("data/cache");
  }
  if (IS("write-old")) return open("data/log.txt", O_WRONLY | O_APPEND);
  if (IS("exclusive-old")) return open("data/a.txt", O_WRONLY | O_CREAT | O_EXCL, 0600);
  if (IS("truncate")) return truncate("data/log.txt", 0);
  if (IS("own-folder")) {
    mkdir("work", 0700);
    close(open("work/file", O_WRONLY | O_CREAT, 0600));
    close(open("work/file", O_RDONLY));
    stat("work/none", &found);
    list("work");
    unlink("work/file");
    return rmdir("work");
  }
  if (IS("own-folder-renamed")) {
    mkdir("work1", 0700);
    close(open("work1/file", O_WRONLY | O_CREAT, 0600));
    rename("work1", "work2");
    close(open("work2/file", O_RDONLY));
    unlink("work2/file");
    return rmdir("work2");
  }
  if (IS("old-folder-made")) return mkdir("data", 0700);
  if (IS("page-end")) {
    char *pages = mmap(NULL, 8192, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
    munmap(pages + 4096, 4096);
    char *name = pages + 4096 - sizeof "data/a.txt";
    memcpy(name, "data/a.txt", sizeof "data/a.txt");
    return open(name, O_RDONLY);
  }
  if (IS("two-pages")) {
    char *pages = mmap(NULL, 8192, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
    return open(strcpy(pages + 4092, "data/a.txt"), O_RDONLY);
  }
  if (IS("bad-address")) return syscall(SYS_open, (char *)8, O_RDONLY) < 0 && errno == EFAULT ? 0 : 1;
  if (IS("newline")) return open("data/new\nline", O_RDONLY);
  if (IS("not-utf8")) return open("data/\xff", O_RDONLY);
  if (IS("uring")) return puts(syscall(SYS_io_uring_setup, 1, text) < 0 && errno == ENOSYS ? "missing" : "there"), 0;
  if (IS("other-calls")) {
    long result = -ENOSYS;
#ifdef __x86_64__
    __asm__ volatile("int $0x80" : "=a"(result) : "a"(20) : "memory");
#endif
    return puts(result == -ENOSYS ? "missing" : "there"), 0;
  }
  if (IS("socket")) {
    struct sockaddr_un at = {.sun_family = AF_UNIX};
    snprintf(at.sun_path, sizeof at.sun_path, "%s/socket", outside);
    return connect(socket(AF_UNIX, SOCK_STREAM, 0), (struct sockaddr *)&at, sizeof at);
  }
  return 99;
}

int main(int count, char **words) {
  if (count < 4) return 98;
  root = words[2];
  outside = words[3];
  return look(words[1]) == 99 ? 99 : 0;
}
