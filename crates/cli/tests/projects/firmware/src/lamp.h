#define LIT 1
unsigned char lamp_state(void);
