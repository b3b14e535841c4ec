/* The entry point that every DLL has; these need to do nothing there. */
int __stdcall DllMainCRTStartup(void *library, unsigned long reason, void *reserved) {
    (void)library; (void)reason; (void)reserved;
    return 1;
}
