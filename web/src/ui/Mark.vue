<template>
  <svg
    viewBox="0 0 24 24"
    class="h-6 w-6 text-copper"
    fill="none"
    stroke="currentColor"
    aria-hidden="true"
  >
    <path
      d="M5 10h12l1.5 8a2 2 0 0 1-2 2.3H5.5a2 2 0 0 1-2-2.3zM8 10V8a3 3 0 0 1 6 0v2M18 12l4-2"
      stroke-width="1.8"
      stroke-linecap="round"
      stroke-linejoin="round"
    />
  </svg>
</template>
