/* Lamp hours of a year, month by month. */
#ifndef MONTHS_H
#define MONTHS_H

struct months {
    double hours[12];
    double total;
};

/* Lines YEAR-MONTH,HOURS,NIGHTS; 0 when the file can't be read. */
int months_read(const char *path, struct months *out);

#endif
