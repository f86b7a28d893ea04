#define LAMP 3
int lamp(void);
