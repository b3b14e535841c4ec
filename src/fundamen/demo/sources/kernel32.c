/* A stand-in for the operating system's own library, so that the made-up Windows volume has what its programs name.
   It exports the three functions that Tidebook calls, and does nothing. */
__declspec(dllexport) void *__stdcall GetStdHandle(unsigned long which) { (void)which; return 0; }
__declspec(dllexport) int __stdcall WriteFile(void *f, const void *d, unsigned long s, unsigned long *w, void *o) {
    (void)f; (void)d; (void)s; (void)w; (void)o;
    return 0;
}
__declspec(dllexport) void __stdcall ExitProcess(unsigned int status) { (void)status; }
