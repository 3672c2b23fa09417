"""FTP and FTPS through the standard library's ftplib."""
