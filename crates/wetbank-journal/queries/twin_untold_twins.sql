SELECT DISTINCT twin FROM twin_untold
