SELECT user, ends FROM link WHERE proof = ?1
