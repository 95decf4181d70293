/* A stand-in for a library that Debian's wine lacks and Go's runtime needs: random bytes
 * from what wine has under another name. */
#include <windows.h>
BOOLEAN NTAPI SystemFunction036(PVOID buffer, ULONG length);
__declspec(dllexport) BOOL WINAPI ProcessPrng(PBYTE data, SIZE_T size) {
    while (size > 0) {
        ULONG part = size > 0x10000000 ? 0x10000000 : (ULONG)size;
        if (!SystemFunction036(data, part)) return FALSE;
        data += part;
        size -= part;
    }
    return TRUE;
}
