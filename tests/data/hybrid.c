/* The source of arm64ec.dll and arm64x.dll, by LLVM's compiler and linker:
 *
 *   clang -target arm64ec-pc-windows-msvc -c hybrid.c -o ec.obj; clang -target aarch64-pc-windows-msvc -c hybrid.c -o arm64.obj
 *   lld-link -machine:arm64ec -dll -noentry -out:arm64ec.dll ec.obj
 *   lld-link -machine:arm64x -dll -noentry -out:arm64x.dll ec.obj arm64.obj
 *
 * What a C library would define for the linker stands here with no meaning; only the tables are looked at.
 */
#define POINTER(name) const void *name = 0
POINTER(__os_arm64x_dispatch_ret);
POINTER(__os_arm64x_check_icall);
POINTER(__os_arm64x_check_icall_cfg);
POINTER(__os_arm64x_dispatch_call);
POINTER(__os_arm64x_dispatch_call_no_redirect);
POINTER(__os_arm64x_check_call);
const unsigned __chpe_metadata[32] = {1};
const struct {
  unsigned size;
  char unused[196];
  const void *hybrid_metadata;
  char rest[112];
} _load_config_used = {320, {0}, __chpe_metadata, {0}};
__declspec(dllexport) int answer(void) { return 3; }
