#define LIT 1
