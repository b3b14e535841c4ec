/* Stands between a program and the system's calls that change something: counts them, and at one of them kills the
   process, or lets the call fail. With a log open it also writes down what each call has changed, for ``disk.py``.
   Preloaded (ld.so(8), LD_PRELOAD); armed from inside by faults_arm. */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <limits.h>
#include <pthread.h>
#include <signal.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/types.h>
#include <unistd.h>

enum { OFF, COUNT, KILL, FAIL_ONCE, FAIL_ON };
static volatile long mode = OFF, at, count;
static volatile int code;
static FILE *log_file; /* written through stdio, whose own calls do not come by here */
static pthread_mutex_t one_by_one = PTHREAD_MUTEX_INITIALIZER;

void faults_arm(long new_mode, long new_at, int new_code) { count = 0; at = new_at; code = new_code; mode = new_mode; }
long faults_count(void) { return count; }
void faults_log(const char *path) { log_file = fopen(path, "wb"); }
void faults_log_end(void) { if (log_file) fclose(log_file); log_file = NULL; }

static int due(void) {
  if (mode == OFF) return 0;
  long n = __sync_add_and_fetch(&count, 1);
  if (mode == KILL && n == at) { kill(getpid(), SIGKILL); for (;;) pause(); }
  if ((mode == FAIL_ONCE && n == at) || (mode == FAIL_ON && n >= at)) { errno = code; return 1; }
  return 0;
}

/* The log: a line a change, its fields parted by blanks, bytes in hexadecimal; a name goes with its folder's time. */
static void hex(const void *bytes, size_t size) {
  fputc(' ', log_file);
  for (size_t i = 0; i < size; i++) fprintf(log_file, "%02x", ((const unsigned char *)bytes)[i]);
}

static void name(int folder, const char *path) {
  char full[2 * PATH_MAX + 2], link[64];
  full[0] = 0;
  if (path[0] != '/') {
    snprintf(link, sizeof link, folder == AT_FDCWD ? "/proc/self/cwd" : "/proc/self/fd/%d", folder);
    ssize_t size = readlink(link, full, PATH_MAX);
    full[size < 0 ? 0 : size] = 0;
    strcat(full, "/");
  }
  strncat(full, path, PATH_MAX);
  hex(full, strlen(full));
  struct stat s = {0};
  *(strrchr(full, '/') + 1) = 0;
  stat(full, &s);
  fprintf(log_file, ":%lld", s.st_mtim.tv_sec * 1000000000LL + s.st_mtim.tv_nsec);
}

static void node(const struct stat *s) {
  fprintf(log_file, " %lu %u %u %u %lld %lld", (unsigned long)s->st_ino, s->st_mode, s->st_uid, s->st_gid,
          s->st_atim.tv_sec * 1000000000LL + s->st_atim.tv_nsec, s->st_mtim.tv_sec * 1000000000LL + s->st_mtim.tv_nsec);
}

static void node_at(int folder, const char *path, int flags) { struct stat s; fstatat(folder, path, &s, flags); node(&s); }
static void node_of(int d) { struct stat s; fstat(d, &s); node(&s); }

static void written(int d, off_t offset, ssize_t size) {
  unsigned char *data = malloc(size > 0 ? size : 1);
  char path[64];
  snprintf(path, sizeof path, "/proc/self/fd/%d", d);
  int (*really_open)(const char *, int, ...) = (int (*)(const char *, int, ...))dlsym(RTLD_NEXT, "open");
  int again = really_open(path, O_RDONLY); /* it may be open for writing only */
  size = pread(again, data, size, offset);
  close(again);
  fputs("write", log_file);
  node_of(d);
  fprintf(log_file, " %lld", (long long)offset);
  hex(data, size);
  free(data);
}

#define NEXT(type, name, ...) ((type(*)(__VA_ARGS__))dlsym(RTLD_NEXT, name))
#define CALL(type, name, params, args, told, ...) \
  type name params { static type (*next)(__VA_ARGS__); if (!next) next = NEXT(type, #name, __VA_ARGS__); \
    if (due()) return (type)-1; \
    if (!log_file || mode == OFF) return next args; \
    pthread_mutex_lock(&one_by_one); \
    type result = next args; \
    if (result != (type)-1) { int kept = errno; told; fputc('\n', log_file); errno = kept; } \
    pthread_mutex_unlock(&one_by_one); \
    return result; }
#define SAY(word) fputs(word, log_file)

CALL(int, rename, (const char *a, const char *b), (a, b), SAY("rename"); name(AT_FDCWD, a); name(AT_FDCWD, b), const char *, const char *)
CALL(int, renameat, (int d, const char *a, int e, const char *b), (d, a, e, b), SAY("rename"); name(d, a); name(e, b), int, const char *, int, const char *)
CALL(int, unlink, (const char *a), (a), SAY("unlink"); name(AT_FDCWD, a), const char *)
CALL(int, unlinkat, (int d, const char *a, int f), (d, a, f), SAY("unlink"); name(d, a), int, const char *, int)
CALL(int, rmdir, (const char *a), (a), SAY("unlink"); name(AT_FDCWD, a), const char *)
CALL(int, mkdir, (const char *a, mode_t m), (a, m), SAY("make"); name(AT_FDCWD, a); node_at(AT_FDCWD, a, 0), const char *, mode_t)
CALL(int, mkdirat, (int d, const char *a, mode_t m), (d, a, m), SAY("make"); name(d, a); node_at(d, a, 0), int, const char *, mode_t)
CALL(int, symlinkat, (const char *a, int d, const char *b), (a, d, b), SAY("make"); name(d, b); node_at(d, b, AT_SYMLINK_NOFOLLOW); hex(a, strlen(a)), const char *, int, const char *)
CALL(int, symlink, (const char *a, const char *b), (a, b), SAY("make"); name(AT_FDCWD, b); node_at(AT_FDCWD, b, AT_SYMLINK_NOFOLLOW); hex(a, strlen(a)), const char *, const char *)
CALL(int, link, (const char *a, const char *b), (a, b), SAY("link"); name(AT_FDCWD, a); name(AT_FDCWD, b), const char *, const char *)
CALL(int, linkat, (int d, const char *a, int e, const char *b, int f), (d, a, e, b, f), SAY("link"); name(d, a); name(e, b), int, const char *, int, const char *, int)
CALL(int, chmod, (const char *a, mode_t m), (a, m), SAY("dress"); node_at(AT_FDCWD, a, 0), const char *, mode_t)
CALL(int, fchmod, (int d, mode_t m), (d, m), SAY("dress"); node_of(d), int, mode_t)
CALL(int, fchmodat, (int d, const char *a, mode_t m, int f), (d, a, m, f), SAY("dress"); node_at(d, a, f), int, const char *, mode_t, int)
CALL(int, chown, (const char *a, uid_t u, gid_t g), (a, u, g), SAY("dress"); node_at(AT_FDCWD, a, 0), const char *, uid_t, gid_t)
CALL(int, lchown, (const char *a, uid_t u, gid_t g), (a, u, g), SAY("dress"); node_at(AT_FDCWD, a, AT_SYMLINK_NOFOLLOW), const char *, uid_t, gid_t)
CALL(int, fchownat, (int d, const char *a, uid_t u, gid_t g, int f), (d, a, u, g, f), SAY("dress"); node_at(d, a, f), int, const char *, uid_t, gid_t, int)
CALL(int, fchown, (int d, uid_t u, gid_t g), (d, u, g), SAY("dress"); node_of(d), int, uid_t, gid_t)
CALL(int, futimens, (int d, const struct timespec *t), (d, t), SAY("dress"); node_of(d), int, const struct timespec *)
CALL(int, fsetxattr, (int d, const char *n, const void *v, size_t s, int f), (d, n, v, s, f), SAY("attribute"); node_of(d); hex(n, strlen(n)); hex(v, s), int, const char *, const void *, size_t, int)
CALL(int, utimensat, (int d, const char *a, const struct timespec *t, int f), (d, a, t, f), SAY("dress"); node_at(d, a, f), int, const char *, const struct timespec *, int)
CALL(int, setxattr, (const char *a, const char *n, const void *v, size_t s, int f), (a, n, v, s, f), SAY("attribute"); node_at(AT_FDCWD, a, 0); hex(n, strlen(n)); hex(v, s), const char *, const char *, const void *, size_t, int)
CALL(int, fsync, (int d), (d), SAY("flush"); node_of(d), int)
CALL(int, fdatasync, (int d), (d), SAY("flush"); node_of(d), int)
CALL(int, syncfs, (int d), (d), SAY("flush-all"), int)
CALL(int, ftruncate, (int d, off_t s), (d, s), SAY("truncate"); node_of(d); fprintf(log_file, " %lld", (long long)s), int, off_t)
CALL(int, ftruncate64, (int d, off64_t s), (d, s), SAY("truncate"); node_of(d); fprintf(log_file, " %lld", (long long)s), int, off64_t)
CALL(ssize_t, pwrite, (int d, const void *b, size_t s, off_t o), (d, b, s, o), written(d, o, result), int, const void *, size_t, off_t)
CALL(ssize_t, pwrite64, (int d, const void *b, size_t s, off64_t o), (d, b, s, o), written(d, o, result), int, const void *, size_t, off64_t)
CALL(ssize_t, copy_file_range, (int a, off64_t *p, int b, off64_t *q, size_t s, unsigned f), (a, p, b, q, s, f), written(b, q ? *q - result : lseek(b, 0, SEEK_CUR) - result, result), int, off64_t *, int, off64_t *, size_t, unsigned)

#define really_write(d, b, s) NEXT(ssize_t, "write", int, const void *, size_t)(d, b, s)
ssize_t write(int d, const void *b, size_t s) {
  if (d <= 2) return really_write(d, b, s); /* what is printed changes nothing */
  if (due()) return -1;
  if (!log_file || mode == OFF) return really_write(d, b, s);
  pthread_mutex_lock(&one_by_one);
  ssize_t result = really_write(d, b, s);
  if (result > 0) { off_t end = lseek(d, 0, SEEK_CUR); if (end >= 0) { written(d, end - result, result); fputc('\n', log_file); } }
  pthread_mutex_unlock(&one_by_one);
  return result;
}

#define OPENING(name_, params, args, folder, ...) \
  int name_ params { \
    static int (*next)(__VA_ARGS__); \
    if (!next) next = NEXT(int, #name_, __VA_ARGS__); \
    va_list rest; va_start(rest, flags); mode_t m = flags & (O_CREAT | O_TMPFILE) ? va_arg(rest, mode_t) : 0; va_end(rest); \
    if (!(flags & (O_CREAT | O_TRUNC))) return next args; \
    if (due()) return -1; \
    if (!log_file || mode == OFF) return next args; \
    pthread_mutex_lock(&one_by_one); \
    int was_there = faccessat(folder, a, F_OK, 0) == 0, result = next args; \
    if (result >= 0 && !was_there) { SAY("make"); name(folder, a); node_of(result); fputc('\n', log_file); } \
    if (result >= 0 && was_there && flags & O_TRUNC) { SAY("truncate"); node_of(result); SAY(" 0\n"); } \
    pthread_mutex_unlock(&one_by_one); \
    return result; }
OPENING(open, (const char *a, int flags, ...), (a, flags, m), AT_FDCWD, const char *, int, ...)
OPENING(open64, (const char *a, int flags, ...), (a, flags, m), AT_FDCWD, const char *, int, ...)
OPENING(openat, (int d, const char *a, int flags, ...), (d, a, flags, m), d, int, const char *, int, ...)
OPENING(openat64, (int d, const char *a, int flags, ...), (d, a, flags, m), d, int, const char *, int, ...)

/* openat2(2), which the C library knows only as a number. */
long syscall(long number, ...) {
  static long (*next)(long, ...);
  if (!next) next = (long (*)(long, ...))dlsym(RTLD_NEXT, "syscall");
  va_list rest; va_start(rest, number);
  long a[6];
  for (int i = 0; i < 6; i++) a[i] = va_arg(rest, long);
  va_end(rest);
  if (number != 437 || !(*(const unsigned long long *)a[2] & O_CREAT)) return next(number, a[0], a[1], a[2], a[3], a[4], a[5]);
  if (due()) return -1;
  if (!log_file || mode == OFF) return next(number, a[0], a[1], a[2], a[3], a[4], a[5]);
  pthread_mutex_lock(&one_by_one);
  long result = next(number, a[0], a[1], a[2], a[3], a[4], a[5]);
  if (result >= 0) { int kept = errno; SAY("make"); name(a[0], (const char *)a[1]); node_of(result); fputc('\n', log_file); errno = kept; }
  pthread_mutex_unlock(&one_by_one);
  return result;
}
