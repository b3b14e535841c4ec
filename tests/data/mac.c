/* The source of libsaltmac.dylib, a universal library by LLVM's compiler, linker and lipo:
 *
 *   for a in x86_64 arm64; do
 *     clang -target $a-apple-macos11 -c mac.c -o mac.$a.o
 *     ld64.lld -arch $a -platform_version macos 11.0 14.0 -dylib -install_name @rpath/libsaltmac.dylib \
 *       -current_version 4.2.1 -compatibility_version 4.0.0 -rpath @loader_path/parts -undefined dynamic_lookup \
 *       -weak_library libbuoy.dylib libSystem.tbd mac.$a.o -o libsaltmac.$a
 *   done
 *   llvm-lipo -create libsaltmac.x86_64 libsaltmac.arm64 -output libsaltmac.dylib
 */
extern int buoy_depth(void);
extern int whoever_has_it(void);
int (*salt_depth)(void) = buoy_depth;
int salt_tide(void) { return whoever_has_it() + 4; }
