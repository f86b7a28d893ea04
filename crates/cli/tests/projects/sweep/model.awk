BEGIN { for (i = 1; i <= steps; i++) print depth * i + seed }
