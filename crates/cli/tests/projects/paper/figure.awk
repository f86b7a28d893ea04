{ print "<svg>" $1 "</svg>" }
