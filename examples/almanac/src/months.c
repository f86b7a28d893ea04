#include "months.h"

#include <stdio.h>
#include <string.h>

int months_read(const char *path, struct months *out)
{
    FILE *file = fopen(path, "r");
    int year, month, nights;
    double hours;
    if (!file)
        return 0;
    memset(out, 0, sizeof *out);
    while (fscanf(file, "%d-%d,%lf,%d\n", &year, &month, &hours, &nights) == 4)
        if (month >= 1 && month <= 12) {
            out->hours[month - 1] += hours;
            out->total += hours;
        }
    fclose(file);
    return 1;
}
