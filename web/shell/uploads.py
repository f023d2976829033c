"""Uploads are held in memory and cut off at a limit, before anything reads them."""

from django.core.files.uploadhandler import MemoryFileUploadHandler, StopUpload

LARGEST_UPLOAD = 96 * 1024 * 1024


class LimitedUploadHandler(MemoryFileUploadHandler):
    """Keeps every upload in memory up to the limit; a larger one breaks off."""

    def handle_raw_input(self, input_data, META, content_length, boundary, encoding=None):
        self.activated = content_length <= LARGEST_UPLOAD
        if not self.activated:
            self.request.META["nomogon.too_large"] = content_length
            raise StopUpload(connection_reset=False)
