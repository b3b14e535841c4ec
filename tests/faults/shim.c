/* Stands between a program and the system's calls that change something: counts them, and at one of them kills the
   process, or lets the call fail. Preloaded (ld.so(8), LD_PRELOAD); armed from inside by faults_arm. */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <signal.h>
#include <stdarg.h>
#include <sys/stat.h>
#include <sys/types.h>
#include <unistd.h>

enum { OFF, COUNT, KILL, FAIL_ONCE, FAIL_ON };
static volatile long mode = OFF, at, count;
static volatile int code;

void faults_arm(long new_mode, long new_at, int new_code) { count = 0; at = new_at; code = new_code; mode = new_mode; }
long faults_count(void) { return count; }

static int due(void) {
  if (mode == OFF) return 0;
  long n = __sync_add_and_fetch(&count, 1);
  if (mode == KILL && n == at) { kill(getpid(), SIGKILL); for (;;) pause(); }
  if ((mode == FAIL_ONCE && n == at) || (mode == FAIL_ON && n >= at)) { errno = code; return 1; }
  return 0;
}

#define NEXT(type, name, ...) ((type(*)(__VA_ARGS__))dlsym(RTLD_NEXT, name))
#define CALL(type, name, params, args, ...) \
  type name params { static type (*next)(__VA_ARGS__); if (!next) next = NEXT(type, #name, __VA_ARGS__); \
    return due() ? (type)-1 : next args; }

CALL(int, rename, (const char *a, const char *b), (a, b), const char *, const char *)
CALL(int, renameat, (int d, const char *a, int e, const char *b), (d, a, e, b), int, const char *, int, const char *)
CALL(int, unlink, (const char *a), (a), const char *)
CALL(int, unlinkat, (int d, const char *a, int f), (d, a, f), int, const char *, int)
CALL(int, rmdir, (const char *a), (a), const char *)
CALL(int, mkdir, (const char *a, mode_t m), (a, m), const char *, mode_t)
CALL(int, symlink, (const char *a, const char *b), (a, b), const char *, const char *)
CALL(int, link, (const char *a, const char *b), (a, b), const char *, const char *)
CALL(int, linkat, (int d, const char *a, int e, const char *b, int f), (d, a, e, b, f), int, const char *, int, const char *, int)
CALL(int, chmod, (const char *a, mode_t m), (a, m), const char *, mode_t)
CALL(int, fchmod, (int d, mode_t m), (d, m), int, mode_t)
CALL(int, fchmodat, (int d, const char *a, mode_t m, int f), (d, a, m, f), int, const char *, mode_t, int)
CALL(int, chown, (const char *a, uid_t u, gid_t g), (a, u, g), const char *, uid_t, gid_t)
CALL(int, lchown, (const char *a, uid_t u, gid_t g), (a, u, g), const char *, uid_t, gid_t)
CALL(int, fchownat, (int d, const char *a, uid_t u, gid_t g, int f), (d, a, u, g, f), int, const char *, uid_t, gid_t, int)
CALL(int, utimensat, (int d, const char *a, const struct timespec *t, int f), (d, a, t, f), int, const char *, const struct timespec *, int)
CALL(int, setxattr, (const char *a, const char *n, const void *v, size_t s, int f), (a, n, v, s, f), const char *, const char *, const void *, size_t, int)
CALL(int, fsync, (int d), (d), int)
CALL(int, fdatasync, (int d), (d), int)
CALL(int, ftruncate, (int d, off_t s), (d, s), int, off_t)
CALL(int, ftruncate64, (int d, off64_t s), (d, s), int, off64_t)
CALL(ssize_t, pwrite, (int d, const void *b, size_t s, off_t o), (d, b, s, o), int, const void *, size_t, off_t)
CALL(ssize_t, pwrite64, (int d, const void *b, size_t s, off64_t o), (d, b, s, o), int, const void *, size_t, off64_t)

CALL(ssize_t, copy_file_range, (int a, off64_t *p, int b, off64_t *q, size_t s, unsigned f), (a, p, b, q, s, f), int, off64_t *, int, off64_t *, size_t, unsigned)

ssize_t write(int d, const void *b, size_t s) {
  static ssize_t (*next)(int, const void *, size_t);
  if (!next) next = NEXT(ssize_t, "write", int, const void *, size_t);
  return d > 2 && due() ? -1 : next(d, b, s); /* what is printed changes nothing */
}

#define OPENING(name) \
  int name(const char *a, int flags, ...) { \
    static int (*next)(const char *, int, ...); \
    if (!next) next = (int (*)(const char *, int, ...))dlsym(RTLD_NEXT, #name); \
    va_list rest; va_start(rest, flags); mode_t m = flags & (O_CREAT | O_TMPFILE) ? va_arg(rest, mode_t) : 0; va_end(rest); \
    return flags & (O_CREAT | O_TRUNC) && due() ? -1 : next(a, flags, m); }
OPENING(open)
OPENING(open64)
