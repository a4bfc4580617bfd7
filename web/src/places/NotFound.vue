<template>
  <h1>There is nothing here</h1>
  <p class="mt-2">
    The address may be mistyped. Go to <RouterLink to="/experiments">Experiments</RouterLink> or
    <RouterLink to="/runs">Runs</RouterLink>.
  </p>
</template>
